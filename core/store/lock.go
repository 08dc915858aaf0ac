package store

import (
	"errors"
	"fmt"
	"math/rand/v2"
	"time"

	"lockback/core/change"
)

// Patience is how long readers wait for a commit, and writers for another writer.
const Patience = 10 * time.Second

// lockByte is the byte of the record that its writer locks. It lies in the page that SQLite keeps free for its own
// locks ("Database File Format", 1.4) and behind those (PENDING_BYTE to SHARED_SIZE, 512 bytes): nothing is ever read
// or written there, and no second file is needed.
const lockByte = 0x40000000 + 1024

var errHeld = errors.New("somebody else has the lock")

// Hold keeps all others from writing until [Store.Release] or [Store.Close]; they go on reading. It waits up to
// [Patience] for another writer, then fails with [change.ErrInUse]. Whoever changes a machine holds its record: between
// what was read and what is written, nobody else writes.
func (s *Store) Hold() error {
	if s.held || s.file == nil {
		return nil
	}
	for began := time.Now(); ; {
		err := tryLock(s.file)
		switch {
		case err == nil:
			s.held = true
			return nil
		case !errors.Is(err, errHeld):
			return explain(s.Path, fmt.Errorf("the record cannot be locked: %w", err))
		case time.Since(began) > Patience:
			return fmt.Errorf("%s: %w", s.Path, change.ErrInUse)
		}
		// Not in step with others that wait, and the more often the longer it waits: of many, none waits much longer
		// than all others.
		pause := 16 * time.Millisecond / time.Duration(1+time.Since(began)/(250*time.Millisecond))
		time.Sleep(time.Millisecond/2 + rand.N(pause))
	}
}

// Release lets others write again.
func (s *Store) Release() error {
	if !s.held {
		return nil
	}
	s.held = false
	return unlock(s.file)
}
