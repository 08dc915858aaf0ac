# make test      all checks and tests; peers that are missing are skipped by name
# make test-long  the same, with every draw of the tests that draw cases at random, and the campaign
# make demo     the guided example
# make release  static binaries for the six targets, with checksums, in dist/
# make bench    the figures of docs/performance.md
# make campaign random kills, full disks, mutated disks: MINUTES=30 each
# make desktops  whole desktops and other inits, installed from the distribution, against systemd and booted (7 GB)
# make docs     the manual pages and the reference, from the help texts
# make shots    the pictures of docs/screenshots

VERSION ?= $(shell git describe --tags --always --dirty 2>/dev/null || echo dev)
TARGETS := linux/amd64 windows/amd64 linux/arm64 darwin/amd64 darwin/arm64 windows/arm64
HOST    := $(shell go env GOOS)/$(shell go env GOARCH)
FLAGS   := -trimpath -ldflags "-s -w -X lockback/internal/cli.Version=$(VERSION)"
export CGO_ENABLED := 0

.PHONY: test test-long peers compile check build-all foreign go-test demo release bench campaign desktops shots docs fuzz

# What the host needs is built once; then the checks, the other targets and the tests run side by side. Compilers allocate
# much and end soon: with the collector at a quarter of its usual work they take a fifth less.
compile check foreign: export GOGC := 400
test: peers compile
	@$(MAKE) --no-print-directory -j3 --output-sync=line check foreign go-test

test-long: export LOCKBACK_LONG := 1
test-long: test

compile:
	@go build ./...

# The tests write thousands of small files: they do so in memory, where there is room for it.
go-test:
	@dir=; if [ "$$(df -Pk /dev/shm 2>/dev/null | awk 'NR == 2 { print $$4 }')" -gt 6000000 ] 2>/dev/null; then \
	  dir=$$(mktemp -d /dev/shm/lockback-test.XXXXXX); chmod 1777 "$$dir"; export TMPDIR="$$dir"; fi; \
	trap 'test -z "$$dir" || rm -rf "$$dir"' EXIT; trap 'exit 130' INT TERM; \
	go test -count=1 -vet=off -ldflags='-s -w' -timeout 3h ./...

# Says which real systems and tools are missing, whose tests are then skipped.
peers:
	@[ "$$(id -u)" = 0 ] || echo "not root: skipped are the tests that boot a Debian, mount small disks, and drop rights"
	@for p in debootstrap systemd-nspawn systemctl run-parts strace setpriv wine x86_64-w64-mingw32-gcc hivexregedit reglookup regtree regfexport lnkinfo mkntfs ntfs-3g plistutil mkfs.ext4 chattr mandoc zsh fish tmux osslsigncode evtxexport wixl flatpak rpm db_load dnf createrepo_c pacman bsdtar; do \
	  PATH=$$PATH:/usr/sbin:/sbin command -v $$p >/dev/null || echo "missing peer: $$p; its tests are skipped"; done

check:
	@test -z "$$(gofmt -l .)" || { echo "not gofmt'd:"; gofmt -l .; exit 1; }
	go vet ./...
	go tool staticcheck ./...

build-all:
	@set -e; for t in $(TARGETS); do echo "build $$t"; GOOS=$${t%/*} GOARCH=$${t#*/} go build -o /dev/null ./cmd/lockback; done

# The other targets, beside the tests: that they compile and link. Without optimising and symbols
# that takes a quarter less; the one that the tests run under Wine is built as they build it.
foreign:
	@set -e; for t in $(filter-out $(HOST),$(TARGETS)); do echo "build $$t"; flags='-gcflags=all=-N -l -dwarf=false'; \
	  [ $$t = windows/amd64 ] && flags=; \
	  GOOS=$${t%/*} GOARCH=$${t#*/} go build $${flags:+"$$flags"} -ldflags='-s -w' -o /dev/null ./cmd/lockback; done

demo:
	@echo "building lockback; the first time takes a minute" >&2
	@go run ./cmd/lockback demo

release:
	@rm -rf dist && mkdir dist
	@set -e; for t in $(TARGETS); do os=$${t%/*}; arch=$${t#*/}; ext=; [ $$os = windows ] && ext=.exe; \
	  GOOS=$$os GOARCH=$$arch go build $(FLAGS) -o dist/lockback-$$os-$$arch$$ext ./cmd/lockback; done
	@cd dist && sha256sum lockback-* > SHA256SUMS && cat SHA256SUMS

bench:
	go test ./internal/bench -run XXX -bench . -benchtime 10x -timeout 60m

campaign:
	LOCKBACK_CAMPAIGN=$${MINUTES:-30}m go test ./internal/campaign -count=1 -v -timeout 24h

desktops:
	LOCKBACK_DESKTOPS=1 LOCKBACK_PEERS=required go test ./internal/peers -run 'TestWholeDesktops|TestCheckAfterARealUpgrade|TestDesktopProgramsAgree|TestOtherInitsLockNobodyOut' -count=1 -v -timeout 2h

docs:
	go run ./internal/reference docs

shots:
	docs/screenshots/make

# Every target of every package, each for FUZZTIME.
fuzz:
	@grep -rn --include=*_test.go '^func Fuzz' . | sed -E 's|^\./(.*)/[^/]*:[0-9]+:func (Fuzz[A-Za-z]*).*|\1 \2|' | sort | while read dir name; do \
	  go test ./$$dir -run XXX -fuzz "^$$name$$" -fuzztime $${FUZZTIME:-1m} -fuzzminimizetime 20x </dev/null || exit 1; done
