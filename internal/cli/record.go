package cli

import (
	"fmt"

	"github.com/spf13/cobra"

	"lockback/core/autostart"
	"lockback/core/store"
	"lockback/core/work"
	"lockback/internal/page"
)

func newRecordCommand(a *app) *cobra.Command {
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
		Long: `Copy everything the record has about the mounted machine, and about no other, onto its
disk, to the place where lockback run as root on that machine looks for its record. Removed
entries can then be brought back there, too. A record that is on the disk already stays
untouched.`,
		Example: "  lockback --root /mnt/disk record carry --dry-run\n  lockback --root /mnt/disk record carry",
		Args:    cobra.NoArgs,
		RunE:    func(*cobra.Command, []string) error { return carryRecord(a) },
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
			defer s.Close()
			n, err := s.Record.Verify()
			if err != nil {
				return work.Advise(err)
			}
			p := a.printer()
			if a.format == "json" {
				return p.JSON(page.RecordDocument{Record: s.Record.Path, Contents: n})
			}
			p.Line("%s is whole: %s", s.Record.Path, autostart.Count(n, "content has its checksum",
				"contents have their checksums"))
			return nil
		},
	}
	c.AddCommand(carry, verify)
	return c
}

// carryRecord copies the machine's part of the record onto its disk.
func carryRecord(a *app) error {
	if a.root == "" || a.store == work.OnDisk {
		return usage("record carry copies this computer's record onto a mounted disk; name the disk with --root")
	}
	s, err := a.openSettled(store.Exclusive)
	if err != nil {
		return err
	}
	defer s.Close()
	snaps, err := s.Record.Snapshots(s.Machine.ID)
	if err != nil {
		return work.Advise(err)
	}
	changes, err := s.Record.Changes(s.Machine.ID)
	if err != nil {
		return work.Advise(err)
	}
	if len(snaps) == 0 {
		return usage("there is nothing to carry: %s has no snapshot of this machine", s.Record.Path)
	}
	what := autostart.Count(len(snaps), "snapshot", "snapshots") + " and " + autostart.Count(len(changes), "change",
		"changes")
	place, has := work.HasRecord(s.Machine)
	if has {
		return usage("the disk has a record already, %s; it is left as it is (--store disk looks into it)", place)
	}
	p := a.printer()
	if a.dryRun {
		p.Line("%s", page.Subject(s.Machine))
		p.Line("would copy %s from %s to %s; nothing was changed", what, s.Record.Path, work.RecordOnDisk[s.Machine.OS])
		return nil
	}
	if err := a.confirm(fmt.Sprintf("Copy %s to %s of %s?", what, work.RecordOnDisk[s.Machine.OS],
		page.Subject(s.Machine))); err != nil {
		return err
	}
	path, err := a.desk().Carry(s.Session)
	if err != nil {
		return err
	}
	p.Line("%s", page.Subject(s.Machine))
	p.Line("copied %s to %s; lockback run as root on that machine uses it", what, path)
	return nil
}
