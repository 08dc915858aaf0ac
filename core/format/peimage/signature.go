package peimage

import (
	"encoding/binary"
	"errors"
	"hash"
	"io"
)

// Signed reports whether the image has a table of signatures.
func (i *Image) Signed() bool { return i.signed.at != 0 && i.signed.size != 0 }

// typeSignedData is WIN_CERT_TYPE_PKCS_SIGNED_DATA.
const typeSignedData = 2

// Signatures returns the signatures of the table, each a PKCS #7 message. It fails where the
// table does not lie at the end of the file, as Windows wants it to: what follows would be signed
// by nobody.
func (i *Image) Signatures() ([][]byte, error) {
	at, length := int64(i.signed.at), int64(i.signed.size)
	switch {
	case !i.Signed():
		return nil, nil
	case at+length > i.size:
		return nil, errors.New("the table of signatures is cut off")
	case at+length < i.size:
		return nil, errors.New("something was added behind the table of signatures")
	case length > maxCertificates:
		return nil, errors.New("the table of signatures is too large")
	case at < i.optional:
		return nil, errors.New("the table of signatures lies in the header")
	}
	table := make([]byte, length)
	if err := i.read(table, at); err != nil {
		return nil, err
	}
	var all [][]byte
	for len(table) >= 8 && len(all) < maxSignatures {
		n := binary.LittleEndian.Uint32(table)
		if n < 8 || int64(n) > int64(len(table)) {
			if n == 0 && len(all) > 0 {
				break // what fills the table up
			}
			return nil, errors.New("the table of signatures is damaged")
		}
		if binary.LittleEndian.Uint16(table[6:]) == typeSignedData {
			all = append(all, table[8:n])
		}
		table = table[min(int64(n+7)&^7, int64(len(table))):]
	}
	return all, nil
}

// Digest writes to a hash what the signatures of a program sign: all of it but the checksum, the
// entry that names the table of signatures, and that table ("Windows Authenticode Portable
// Executable Signature Format", calculating the PE image hash).
func (i *Image) Digest(h hash.Hash) error {
	end := i.size
	if i.Signed() {
		end = min(int64(i.signed.at), i.size)
	}
	skip := []struct{ at, n int64 }{{i.checksum, 4}}
	if i.certificates != 0 {
		skip = append(skip, struct{ at, n int64 }{i.certificates, 8})
	}
	at := int64(0)
	buffer := make([]byte, 128<<10)
	copyTo := func(to int64) error {
		if to < at {
			return errors.New("its header overlaps the table of signatures")
		}
		_, err := io.CopyBuffer(onlyWriter{h}, io.NewSectionReader(i.r, at, to-at), buffer)
		at = to
		return err
	}
	for _, s := range skip {
		if err := copyTo(s.at); err != nil {
			return err
		}
		at += s.n
	}
	if err := copyTo(end); err != nil {
		return err
	}
	// An unsigned file is filled up to a multiple of eight before it is signed.
	if rest := end % 8; rest != 0 && !i.Signed() {
		h.Write(make([]byte, 8-rest))
	}
	return nil
}

// onlyWriter keeps io.CopyBuffer to the buffer that it is given.
type onlyWriter struct{ io.Writer }
