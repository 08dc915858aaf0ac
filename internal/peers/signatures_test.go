package peers

import (
	"bytes"
	"crypto/rsa"
	"crypto/sha1"
	"crypto/x509"
	"encoding/binary"
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/smallstep/pkcs7"
	"github.com/stretchr/testify/require"

	"lockback/core/autostart"
	"lockback/core/format/regf"
	"lockback/internal/testkit"
)

// signed are programs by their names, each as osslsigncode made it or somebody spoiled it.
type signed map[string][]byte

// TestSignaturesAsTheJudgeSees holds what list says of signed programs against osslsigncode: over
// two hundred of them, signed, stamped, nested, added to, cut, changed, signed by others and by
// certificates that are over. What the judge takes is signed and traced, and nothing else is.
func TestSignaturesAsTheJudgeSees(t *testing.T) {
	t.Parallel()
	testkit.Need(t, "osslsigncode")
	dir := t.TempDir()
	year := func(y int) time.Time { return time.Date(y, 1, 1, 0, 0, 0, 0, time.UTC) }
	root := testkit.Certify(t, nil, "Gullrock Test Root", year(2015), year(2050))
	between := testkit.Certify(t, root, "Gullrock Code Authority", year(2015), year(2050))
	stranger := testkit.Certify(t, nil, "Oxcombe Root", year(2015), year(2050))
	const code, stamps = x509.ExtKeyUsageCodeSigning, x509.ExtKeyUsageTimeStamping
	const mail = x509.ExtKeyUsageEmailProtection
	signers := map[string]*testkit.Authority{
		"fogbell": testkit.Certify(t, between, "Fogbell Works", year(2020), year(2049), code),
		"over":    testkit.Certify(t, between, "Oldplotter", year(2020), year(2022), code),
		"early":   testkit.Certify(t, between, "Morrow", year(2045), year(2049), code),
		"oxcombe": testkit.Certify(t, stranger, "Oxcombe", year(2020), year(2049), code),
		"mail":    testkit.Certify(t, between, "Saltmarsh Post", year(2020), year(2049), mail),
	}
	stampers := map[string]*testkit.Authority{
		"":        nil,
		"clock":   testkit.Certify(t, root, "Gullrock Clock", year(2015), year(2050), stamps),
		"foreign": testkit.Certify(t, stranger, "Oxcombe Clock", year(2015), year(2050), stamps),
	}
	roots, _ := root.Files(t, dir, "root")
	tool := func(args ...string) {
		t.Helper()
		out, err := exec.Command("osslsigncode", args...).CombinedOutput()
		require.NoError(t, err, "%s\n%s", args, out)
	}
	all := signed{}
	bases := map[string][]byte{}
	// with a version resource, and one that is signed already
	for _, name := range []string{"Lampwick/LabelHelper.exe", "Fogbell/notes.exe"} {
		bases[strings.ToLower(filepath.Base(name))] = museumProgram(t, name)
	}
	bases["go.exe"] = goProgram(t)
	n := 0
	sign := func(base []byte, who, hash, stamp string, more ...string) []byte {
		t.Helper()
		n++
		in, out := filepath.Join(dir, fmt.Sprint(n, ".in")), filepath.Join(dir, fmt.Sprint(n, ".out"))
		require.NoError(t, os.WriteFile(in, base, 0o600))
		certs, key := signers[who].Files(t, dir, who)
		args := append([]string{"sign", "-certs", certs, "-key", key, "-h", hash}, more...)
		if stampers[stamp] != nil {
			certs, key := stampers[stamp].Files(t, dir, "clock-"+stamp)
			args = append(args, "-TSA-certs", certs, "-TSA-key", key, "-TSA-time", fmt.Sprint(year(2021).Unix()))
		}
		tool(append(args, "-in", in, "-out", out)...)
		content, err := os.ReadFile(out)
		require.NoError(t, err)
		return content
	}
	for base, content := range bases {
		all["unsigned "+base] = content
		for _, hash := range []string{"sha1", "sha256", "sha384", "sha512"} {
			for _, stamp := range []string{"", "clock", "foreign"} {
				for _, who := range []string{"fogbell", "over", "oxcombe", "mail", "early"} {
					if (base != "labelhelper.exe" || hash != "sha256") && who != "fogbell" && who != "over" {
						continue
					}
					all[strings.Join([]string{base, hash, who, stamp}, " ")] = sign(content, who, hash, stamp)
				}
			}
		}
		all["pages "+base] = sign(content, "fogbell", "sha256", "clock", "-ph")
		twice := sign(sign(content, "fogbell", "sha1", ""), "fogbell", "sha256", "clock", "-nest")
		all["nested "+base] = twice
		all["again "+base] = sign(sign(content, "fogbell", "sha256", ""), "oxcombe", "sha256", "")
		all["blob "+base] = sign(content, "fogbell", "sha256", "", "-addUnauthenticatedBlob")
		good := sign(content, "fogbell", "sha256", "clock")
		dice := rand.New(rand.NewPCG(1887, uint64(len(base))))
		table := int(binary.LittleEndian.Uint32(good[certificateEntry(good):]))
		spoil := func(name string, change func(b []byte) []byte) { all[name+" "+base] = change(slices.Clone(good)) }
		// Bits of what the signature rests on. In what nobody needs of a message, the judge and
		// the program are strict in different places, see docs/verified.md.
		parts := map[string][]byte{}
		message, err := pkcs7.Parse(good[table+8:])
		require.NoError(t, err)
		parts["signature"] = message.Signers[0].EncryptedDigest
		parts["digest"] = message.Content[len(message.Content)-32:]
		parts["key"] = message.GetOnlySigner().PublicKey.(*rsa.PublicKey).N.Bytes()
		parts["certificate"] = message.GetOnlySigner().Signature
		parts["time"] = []byte("20210101000000Z")
		for k := range 12 {
			spoil(fmt.Sprint("bit of the program ", k),
				func(b []byte) []byte { b[dice.IntN(table)] ^= 1 << dice.IntN(8); return b })
			for _, what := range slices.Sorted(keysOf(parts)) {
				at := bytes.Index(good[table:], parts[what])
				require.Positive(t, at, what)
				spoil(fmt.Sprint("bit of the ", what, " ", k),
					func(b []byte) []byte { b[table+at+dice.IntN(len(parts[what]))] ^= 1 << dice.IntN(8); return b })
			}
		}
		// A signer who says that it signed before its certificate was good, and stamps nothing.
		late := sign(content, "fogbell", "sha256", "", "-time", fmt.Sprint(year(2010).Unix()))
		lateMessage, err := pkcs7.Parse(late[int(binary.LittleEndian.Uint32(late[certificateEntry(late):]))+8:])
		require.NoError(t, err)
		for k := range 4 {
			b := slices.Clone(late)
			b[bytes.LastIndex(b, lateMessage.Signers[0].EncryptedDigest)+dice.IntN(200)] ^= 1 << dice.IntN(8)
			all[fmt.Sprint("early, bit of the signature ", k, " ", base)] = b
		}
		for _, more := range []int{1, 8, 4096} {
			spoil(fmt.Sprint("added ", more), func(b []byte) []byte { return append(b, make([]byte, more)...) })
			spoil(fmt.Sprint("cut ", more), func(b []byte) []byte { return b[:len(b)-more] })
		}
		spoil("checksum", func(b []byte) []byte { b[certificateEntry(b)-int(entryAfterChecksum(b))] ^= 0xff; return b })
		spoil("twin", func(b []byte) []byte {
			return append(slices.Clone(b[:table]),
				all["again "+base][int(binary.LittleEndian.Uint32(all["again "+base][certificateEntry(b):])):]...)
		})
	}
	require.Greater(t, len(all), 200)

	files := map[string]string{}
	var run []regf.Value
	names := map[string]string{}
	for k, name := range slices.Sorted(keysOf(all)) {
		file := fmt.Sprintf(`Program Files\Variants\v%04d.exe`, k)
		names[fmt.Sprintf("v%04d", k)] = name
		files[file] = string(all[name])
		run = append(run, regf.NewText(fmt.Sprintf("v%04d", k), `"C:\`+file+`"`))
	}
	disk := testkit.WindowsDisk(t, testkit.Keys{
		`Microsoft\Windows\CurrentVersion\Run`: run,
		`Microsoft\SystemCertificates\ROOT\Certificates\` + fmt.Sprintf("%X", sha1.Sum(root.Certificate.Raw)): {
			storedCertificate(root.Certificate)},
	}, nil, nil, files)
	_, entries := testkit.Program{Root: disk, Store: filepath.Join(dir, "record.db")}.List(t, "--all")
	agreed := map[bool]int{}
	for id, name := range names {
		file := filepath.Join(disk, "Program Files", "Variants", id+".exe")
		out, err := exec.Command("osslsigncode", "verify", "-CAfile", roots, "-TSA-CAfile", roots, "-in",
			file).CombinedOutput()
		judge := err == nil
		entry := entries[id]
		ours := entry.Maker.Basis == autostart.BySignature && !slices.Contains(entry.Problems,
			autostart.SignatureInvalid)
		require.NotEmpty(t, entry.Handle, name)
		if judge != ours {
			t.Errorf("%s: the judge says %v, list says %v %v\n%s", name, judge, entry.Maker, entry.Problems, out)
		}
		agreed[judge]++
	}
	t.Logf("of %d programs, the judge takes %d", len(names), agreed[true])
	require.Greater(t, agreed[true], 30)
	require.Greater(t, agreed[false], 60)
}

func keysOf(all signed) func(func(string) bool) {
	return func(yield func(string) bool) {
		for name := range all {
			if !yield(name) {
				return
			}
		}
	}
}

// certificateEntry is where a program's header names the table of signatures, in the "PE Format".
func certificateEntry(b []byte) int {
	optional := int(binary.LittleEndian.Uint32(b[60:])) + 24
	if binary.LittleEndian.Uint16(b[optional:]) == 0x20b {
		return optional + 112 + 8*4
	}
	return optional + 96 + 8*4
}

// entryAfterChecksum is how far behind the checksum that entry is.
func entryAfterChecksum(b []byte) int {
	return certificateEntry(b) - int(binary.LittleEndian.Uint32(b[60:])) - 24 - 64
}

// storedCertificate is a certificate as the registry's stores hold it.
func storedCertificate(c *x509.Certificate) regf.Value {
	var b []byte
	for _, v := range []uint32{32, 1, uint32(len(c.Raw))} {
		b = binary.LittleEndian.AppendUint32(b, v)
	}
	return regf.Value{Name: "Blob", Type: regf.Binary, Data: append(b, c.Raw...)}
}

// museumProgram is a program of the museum's ticket-desk PC.
func museumProgram(t *testing.T, name string) []byte {
	t.Helper()
	dir := filepath.Join(t.TempDir(), "museum")
	out, err := exec.Command(testkit.Built(t), "demo", "--all", "--build", dir).CombinedOutput()
	require.NoError(t, err, string(out))
	content, err := os.ReadFile(filepath.Join(dir, "ticket-desk-pc", "Program Files", filepath.FromSlash(name)))
	require.NoError(t, err)
	return content
}

// goProgram is a small program for Windows that the compiler makes.
func goProgram(t *testing.T) []byte {
	t.Helper()
	dir := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(dir, "main.go"), []byte("package main\n\nfunc main() { "+
		"println(1887) }\n"), 0o600))
	build := exec.Command("go", "build", "-ldflags=-s -w", "-o", filepath.Join(dir, "a.exe"),
		filepath.Join(dir, "main.go"))
	build.Env = append(os.Environ(), "GOOS=windows", "GOARCH=386", "CGO_ENABLED=0")
	out, err := build.CombinedOutput()
	require.NoError(t, err, string(out))
	content, err := os.ReadFile(filepath.Join(dir, "a.exe"))
	require.NoError(t, err)
	return content
}
