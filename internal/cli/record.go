package cli

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"os/user"
	"path/filepath"
	"runtime"
	"slices"

	"github.com/spf13/cobra"

	"lockback/core/change"
	"lockback/core/machine"
	"lockback/core/store"
	"lockback/internal/view"
)

func (a *app) recordCommand() *cobra.Command {
	c := &cobra.Command{
		Use:   "record",
		Short: "Check the record itself, or carry it with a disk",
		Long: `The record keeps snapshots, changes and what was removed. It is one file: the one
named by --store or LOCKBACK_STORE, else that of this system when run as root, else
the user's own.`,
		Args: cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error { return c.Help() },
	}
	carry := &cobra.Command{
		Use:   "carry",
		Short: "Copy what the record has of a mounted machine onto its disk",
		Long: `Copy all that the record has of the mounted machine, and of no other, onto its disk,
to the place where lockback run as root on that machine looks for its record. What
was removed can then be brought back there, too. A record that the disk has already
is not touched.`,
		Example: "  lockback --root /mnt/disk record carry --dry-run\n  lockback --root /mnt/disk record carry",
		Args:    cobra.NoArgs,
		RunE:    func(*cobra.Command, []string) error { return a.carry() },
	}
	a.writeFlags(carry)
	verify := &cobra.Command{
		Use:     "verify",
		Short:   "Read all of the record and check it",
		Long:    "Read every content of the record and check it against its checksum. Nothing is written.",
		Example: "  lockback record verify\n  lockback --root /mnt/disk --store disk record verify",
		Args:    cobra.NoArgs,
		RunE: func(*cobra.Command, []string) error {
			s, err := a.open(store.Read)
			if err != nil {
				return err
			}
			defer s.close()
			n, err := s.store.Verify()
			if err != nil {
				return adviseStore(err)
			}
			p := a.printer()
			if a.format == "json" {
				return p.JSON(struct {
					Record   string `json:"record"`
					Contents int    `json:"contents"`
				}{s.store.Path, n})
			}
			p.Line("%s is whole: %s", s.store.Path, view.Number(n, "content has its checksum", "contents have their checksums"))
			return nil
		},
	}
	c.AddCommand(carry, verify)
	return c
}

// carry copies the machine's part of the record onto its disk.
func (a *app) carry() error {
	if a.root == "" || a.store == onDisk {
		return usage("record carry copies this computer's record onto a mounted disk; name the disk with --root")
	}
	s, err := a.open(store.Write)
	if err != nil {
		return err
	}
	defer s.close()
	if err := s.settled(); err != nil {
		return err
	}
	snaps, err := s.store.Snapshots(s.machine.ID)
	if err != nil {
		return adviseStore(err)
	}
	changes, err := s.store.Changes(s.machine.ID)
	if err != nil {
		return adviseStore(err)
	}
	if len(snaps) == 0 {
		return usage("there is nothing to carry: %s has no snapshot of this machine", s.store.Path)
	}
	what := view.Number(len(snaps), "snapshot", "snapshots") + " and " + view.Number(len(changes), "change", "changes")
	place, has := recordOnDisk(s.machine)
	if has {
		return usage("the disk has a record already, %s; it is left as it is (--store disk looks into it)", place)
	}
	p := a.printer()
	if a.dryRun {
		p.Line("%s", subject(s.machine))
		p.Line("would copy %s from %s to %s; nothing was changed", what, s.store.Path, diskRecord[s.machine.OS])
		return nil
	}
	if err := a.confirm(fmt.Sprintf("Copy %s to %s of %s?", what, diskRecord[s.machine.OS], subject(s.machine))); err != nil {
		return err
	}
	kept := a.store
	a.store = onDisk
	to, err := a.openStore(s.machine, store.Write)
	a.store = kept
	if err != nil {
		return adviseStore(err)
	}
	err = s.store.Carry(to, s.machine.ID)
	path := to.Path
	if cerr := to.Close(); err == nil {
		err = cerr
	}
	if err != nil {
		os.Remove(path) // it was made for this, and holds nothing
		return adviseStore(err)
	}
	p.Line("%s", subject(s.machine))
	p.Line("copied %s to %s; lockback run as root on that machine uses it", what, path)
	return nil
}

// otherRecords lists the places where another run of lockback would keep its record of this
// machine: as root, as this user, or as the user who became root.
func otherRecords(used string) []string {
	var all []string
	add := func(path string) {
		if path == "" || path == used || slices.Contains(all, path) {
			return
		}
		if info, err := os.Lstat(path); err == nil && info.Mode().IsRegular() || errors.Is(err, fs.ErrPermission) {
			all = append(all, path)
		}
	}
	add(systemRecord())
	if own, err := userRecord(); err == nil {
		add(own)
	}
	if name := os.Getenv("SUDO_USER"); name != "" && machine.Privileged() {
		if u, err := user.Lookup(name); err == nil && filepath.IsAbs(u.HomeDir) {
			add(filepath.Join(u.HomeDir, ".local", "state", "lockback", "record.db"))
		}
	}
	return all
}

// systemRecord is the place of the record of whoever runs as root; empty where this system tells
// none.
func systemRecord() string {
	switch runtime.GOOS {
	case "windows":
		if dir := os.Getenv("ProgramData"); dir != "" {
			return filepath.Join(dir, "lockback", "record.db")
		}
		return ""
	case "darwin":
		return diskRecord["macos"]
	}
	return diskRecord["linux"]
}

// userRecord is the place of this user's own record.
func userRecord() (string, error) {
	if dir := os.Getenv("LocalAppData"); runtime.GOOS == "windows" && filepath.IsAbs(dir) {
		return filepath.Join(dir, "lockback", "record.db"), nil
	}
	if dir := os.Getenv("XDG_STATE_HOME"); filepath.IsAbs(dir) {
		return filepath.Join(dir, "lockback", "record.db"), nil
	}
	home, err := os.UserHomeDir()
	if err != nil {
		return "", fmt.Errorf("no place for the record: %w; name one with --store", err)
	}
	return filepath.Join(home, ".local", "state", "lockback", "record.db"), nil
}

// noteOtherRecords says once where there is another record that knows this machine, or cannot be
// looked into: what it has is not seen here, and its numbers begin with S1 too.
func (a *app) noteOtherRecords(id, used string) {
	if a.toldOthers || a.store != "" {
		return
	}
	a.toldOthers = true
	for _, path := range otherRecords(used) {
		st, err := store.Open(path, store.Read)
		if err != nil {
			is := "there is"
			if errors.Is(err, change.ErrRights) {
				is = "there may be"
			}
			a.note("note: %s another record on this computer, %s, which cannot be looked into from here; its owner can (%v)", is, path, err)
			continue
		}
		snaps, err := st.Snapshots(id)
		st.Close()
		if err == nil && len(snaps) > 0 {
			a.note("note: another record has %s of this machine: %s (--store uses it); its numbers are its own", view.Number(len(snaps), "snapshot", "snapshots"), path)
		}
	}
}

// otherItems are the snapshots and changes of this machine in other records that can be read, for
// the history.
func (a *app) otherItems(id, used string) map[string][]itemJSON {
	all := map[string][]itemJSON{}
	if a.store != "" {
		return all
	}
	for _, path := range otherRecords(used) {
		st, err := store.Open(path, store.Read)
		if err != nil {
			continue // which was said already
		}
		if items, _, err := itemsOf(st, id); err == nil && len(items) > 0 {
			all[path] = items
		}
		st.Close()
	}
	return all
}
