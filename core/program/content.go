package program

import (
	"crypto/md5"
	"crypto/sha1"
	"crypto/sha256"
	"crypto/x509"
	"encoding/hex"
	"errors"
	"fmt"
	"hash"
	"io"
	"os"
	"strings"
	"sync"

	"lockback/core/machine"
	"lockback/core/machine/files"
)

// maxHashed is the largest file, in bytes, whose whole content is compared: half a gigabyte is
// read in about two seconds.
const maxHashed = 512 << 20

// errTooLarge says why a file was not compared.
var errTooLarge = errors.New("it is larger than what is compared")

// hashes are the digests that package databases have.
var hashes = map[string]func() hash.Hash{"md5": md5.New, "sha1": sha1.New, "sha256": sha256.New}

// readWhole is how many bytes a file may have that is read at once: that takes fewer calls.
const readWhole = 64 << 10

// buffers are what files are read into while they are hashed.
var buffers = sync.Pool{New: func() any { b := make([]byte, 64<<10); return &b }}

// digests are those of one file that were worked out, by their kinds.
type digests struct {
	mu   sync.Mutex
	done map[string]string
}

// digest is the digest of the file's content, in hexadecimal. A file with several names is read once.
func (f *File) digest(kind string) (string, error) {
	if f.sums == nil {
		f.sums = &digests{} // of a file that nobody else looks at
	}
	f.sums.mu.Lock()
	defer f.sums.mu.Unlock()
	if sum, ok := f.sums.done[kind]; ok {
		return sum, nil
	}
	sum, err := f.hash(hashes[kind]())
	if err == nil {
		if f.sums.done == nil {
			f.sums.done = map[string]string{}
		}
		f.sums.done[kind] = sum
	}
	return sum, err
}

func (f *File) hash(h hash.Hash) (string, error) {
	if f.Size <= readWhole {
		if content, err := f.machine.ReadFile(f.Path, readWhole); err == nil {
			h.Write(content)
			return hex.EncodeToString(h.Sum(nil)), nil
		}
	}
	file, size, err := f.machine.OpenFile(f.Path)
	if err != nil {
		return "", err
	}
	defer file.Close()
	if size > maxHashed {
		return "", errTooLarge
	}
	buffer := buffers.Get().(*[]byte)
	defer buffers.Put(buffer)
	if _, err := io.CopyBuffer(onlyWriter{h}, io.LimitReader(file, maxHashed), *buffer); err != nil {
		return "", err
	}
	return hex.EncodeToString(h.Sum(nil)), nil
}

// onlyWriter keeps io.CopyBuffer to the buffer that it is given.
type onlyWriter struct{ io.Writer }

// unread is evidence that could not be read, which is shown and decides nothing.
func unread(source string, err error) Evidence {
	return Evidence{Source: source, Notes: []Note{{Name: "not read", Text: fmt.Sprintf("%s: %s", source,
		machine.Reason(err))}}}
}

// fingerprint is the SHA-256 of a certificate, in hexadecimal.
func fingerprint(c *x509.Certificate) string {
	sum := sha256.Sum256(c.Raw)
	return hex.EncodeToString(sum[:])
}

// thumbprint is the SHA-1 of a certificate, by which stores of certificates name one.
func thumbprint(c *x509.Certificate) string {
	sum := sha1.Sum(c.Raw)
	return strings.ToUpper(hex.EncodeToString(sum[:]))
}

// opened hands out the file's content. That it cannot be opened is evidence.
func (f *File) opened(look func(content *os.File, size int64)) {
	content, size, err := f.machine.OpenFile(f.Path)
	if err != nil {
		if !files.IsMissing(err) {
			f.Evidence = append(f.Evidence, unread("the file", err))
		}
		return
	}
	defer content.Close()
	look(content, size)
}
