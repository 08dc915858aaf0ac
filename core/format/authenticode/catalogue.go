package authenticode

import (
	"bytes"
	"crypto"
	"encoding/asn1"
	"errors"
	"fmt"
)

// maxMembers is how many files a catalogue lists at most.
const maxMembers = 1 << 20

// Member is a file that a catalogue lists, by its digest.
type Member struct {
	Algorithm crypto.Hash
	Sum       []byte
}

// Members reads the list of a catalogue, a certificate trust list whose subjects are files: each
// has the digest of one among its attributes (the structures CTL_INFO and SPC_INDIRECT_DATA_CONTENT
// of wincrypt.h and wintrust.h). visit returns false to stop.
func (s *Signature) Members(visit func(Member) bool) error {
	parts := s.Content
	var entries []byte
	// The subjects are what follows the algorithm of their identifiers: the last sequence of all.
	for len(parts) > 0 {
		var one asn1.RawValue
		rest, err := asn1.Unmarshal(parts, &one)
		if err != nil {
			return fmt.Errorf("the catalogue is damaged: %w", err)
		}
		if one.Class == asn1.ClassUniversal && one.Tag == asn1.TagSequence {
			entries = one.Bytes
		}
		parts = rest
	}
	for count := 0; len(entries) > 0; count++ {
		if count > maxMembers {
			return errors.New("the catalogue lists too many files")
		}
		var subject struct {
			ID         []byte
			Attributes asn1.RawValue `asn1:"optional"`
		}
		rest, err := asn1.Unmarshal(entries, &subject)
		if err != nil {
			return fmt.Errorf("the catalogue is damaged: %w", err)
		}
		entries = rest
		if m, ok := member(subject.Attributes.Bytes); ok && !visit(m) {
			return nil
		}
	}
	return nil
}

// member finds the digest among the attributes of a subject.
func member(attributes []byte) (Member, bool) {
	for len(attributes) > 0 {
		var a struct {
			Type  asn1.ObjectIdentifier
			Value asn1.RawValue
		}
		rest, err := asn1.Unmarshal(attributes, &a)
		if err != nil {
			return Member{}, false
		}
		attributes = rest
		if !a.Type.Equal(oidIndirectData) {
			continue
		}
		var data indirectData
		if _, err := asn1.Unmarshal(a.Value.Bytes, &data); err != nil {
			return Member{}, false
		}
		return Member{hashOf(data.Digest.Algorithm.ID), data.Digest.Sum}, true
	}
	return Member{}, false
}

// MayList reports whether a catalogue may list one of the files whose digests are wanted, by
// looking for them in its bytes, without taking it apart: most list none.
func MayList(catalogue []byte, wanted map[string]bool) bool {
	for _, length := range []byte{20, 32} {
		head := []byte{asn1.TagOctetString, length}
		for at := 0; ; {
			k := bytes.Index(catalogue[at:], head)
			if k < 0 {
				break
			}
			at += k + 2
			if at+int(length) <= len(catalogue) && wanted[string(catalogue[at:at+int(length)])] {
				return true
			}
		}
	}
	return false
}
