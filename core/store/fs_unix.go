//go:build unix

package store

import (
	"errors"
	"syscall"
)

func isFull(err error) bool {
	return errors.Is(err, syscall.ENOSPC) || errors.Is(err, syscall.EDQUOT)
}

func isReadOnly(err error) bool { return errors.Is(err, syscall.EROFS) }
