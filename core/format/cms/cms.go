// Package cms reads signed messages, PKCS #7 as RFC 2315 defines it, on which the signatures of
// Windows and macOS rest. It is a wrapper around a package that was not made for messages of
// strangers: it bounds them, looks through their form first, and contains what panics.
//
//	m, err := cms.Parse(message)
//	err = m.Check()
package cms

import (
	"crypto/x509"
	"encoding/asn1"
	"errors"
	"fmt"

	"github.com/smallstep/pkcs7"

	_ "crypto/md5" // digests that signatures may have
	_ "crypto/sha1"
	_ "crypto/sha256"
	_ "crypto/sha512"
)

// Bounds.
const (
	maxMessage  = 16 << 20 // bytes of a message
	maxDepth    = 64       // of values in values
	maxElements = 100_000  // values in all, and of one
)

// Message is a message with one signer.
type Message struct {
	*pkcs7.PKCS7
	// Type is what kind of content was signed; nil if the form of the message does not tell.
	Type asn1.ObjectIdentifier
	// Added are the attributes that were added to the signer later, and signed by nobody.
	Added []Attribute
	// Signer is the certificate of who signed.
	Signer *x509.Certificate

	digests []asn1.ObjectIdentifier // those that the message says it has; nil if it is not known
}

// Attribute is one of a signer's, RFC 2315, 9.2.
type Attribute struct {
	Type  asn1.ObjectIdentifier
	Value asn1.RawValue `asn1:"set"`
}

// ErrDamaged says that a message, or a part of it, cannot be taken apart.
var ErrDamaged = errors.New("the signature is damaged")

// Parse takes a message apart. Padding behind its end is skipped.
func Parse(message []byte) (m *Message, err error) {
	defer contain(&err)
	if len(message) > maxMessage {
		return nil, errors.New("the signature is too large")
	}
	if err := survey(message); err != nil {
		return nil, err
	}
	m = &Message{}
	message = whole(message)
	signed, err := m.split(message)
	switch {
	case errors.Is(err, ErrDamaged):
		return nil, err
	case err != nil:
		signed = message
	}
	if m.PKCS7, err = pkcs7.Parse(signed); err != nil {
		return nil, fmt.Errorf("%w: %w", ErrDamaged, err)
	}
	if len(m.Signers) != 1 {
		return nil, fmt.Errorf("%w: it has %d signers", ErrDamaged, len(m.Signers))
	}
	for _, a := range m.Signers[0].UnauthenticatedAttributes {
		m.Added = append(m.Added, Attribute{a.Type, a.Value})
	}
	if m.Signer = m.GetOnlySigner(); m.Signer == nil {
		return nil, fmt.Errorf("%w: it lacks its signer's certificate", ErrDamaged)
	}
	return m, nil
}

// contain makes an error of a panic of the package below.
func contain(err *error) {
	if r := recover(); r != nil {
		*err = fmt.Errorf("%w: %v", ErrDamaged, r)
	}
}

// Check tells whether the signer signed the content. When certificates were good is not looked at.
func (m *Message) Check() (err error) {
	defer contain(&err)
	// Which algorithm signed follows from the key; the message may claim anything.
	if m.Signer.PublicKeyAlgorithm == x509.RSA {
		m.Signers[0].DigestEncryptionAlgorithm.Algorithm = pkcs7.OIDEncryptionAlgorithmRSA
	}
	err = m.Verify()
	var late *pkcs7.SigningTimeNotValidError
	if errors.As(err, &late) {
		// The time is the signer's own word, and is compared before the signature. Without it,
		// the rest is.
		return m.untimed()
	}
	if err == nil && m.digests != nil {
		for _, id := range m.digests {
			if id.Equal(m.Signers[0].DigestAlgorithm.Algorithm) {
				return nil
			}
		}
		return errors.New("its digest is not one that it names")
	}
	return err
}

// untimed checks a message whose signer signed when its certificate was not good, as it says: the
// certificate is taken for one that always is.
func (m *Message) untimed() error {
	same := *m.PKCS7
	ever := *m.Signer
	ever.NotBefore, ever.NotAfter = ever.NotBefore.AddDate(-9000, 0, 0), ever.NotAfter.AddDate(5000, 0, 0)
	same.Certificates = []*x509.Certificate{&ever}
	return same.Verify()
}

// Countersigned reads a countersignature of PKCS #9, 6.6, over the signature of a message.
func (m *Message) Countersigned(value []byte) (c *Message, err error) {
	defer contain(&err)
	// The type of a signer is the package's own: a copy of one is overwritten.
	p := pkcs7.PKCS7{Content: m.Signers[0].EncryptedDigest, Certificates: m.Certificates,
		Signers: append(m.Signers[:0:0], m.Signers[0])}
	p.Signers[0].AuthenticatedAttributes, p.Signers[0].UnauthenticatedAttributes = nil, nil
	if _, err := asn1.Unmarshal(value, &p.Signers[0]); err != nil {
		return nil, fmt.Errorf("%w: %w", ErrDamaged, err)
	}
	c = &Message{PKCS7: &p, Signer: p.GetOnlySigner()}
	if c.Signer == nil {
		return nil, fmt.Errorf("%w: it lacks its signer's certificate", ErrDamaged)
	}
	return c, nil
}

// whole cuts off what fills a message up behind its end.
func whole(message []byte) []byte {
	var one asn1.RawValue
	if _, err := asn1.Unmarshal(message, &one); err == nil {
		return one.FullBytes
	}
	return message
}

// survey looks through the form of a message, of either kind that X.690 has, without going into
// itself: the package below does, as deep as the message wants it to.
func survey(b []byte) error {
	type level struct{ end int } // where it ends; -1: at the mark of an end
	levels := []level{}
	at, count := 0, 0
	for at < len(b) {
		for len(levels) > 0 && levels[len(levels)-1].end == at {
			levels = levels[:len(levels)-1]
		}
		if len(levels) == 0 && at > 0 {
			return nil // behind the message
		}
		if count++; count > maxElements {
			return fmt.Errorf("%w: too much is in it", ErrDamaged)
		}
		if len(levels) > 0 && levels[len(levels)-1].end < 0 && at+1 < len(b) && b[at] == 0 && b[at+1] == 0 {
			levels = levels[:len(levels)-1]
			at += 2
			if len(levels) == 0 {
				return nil
			}
			continue
		}
		constructed := b[at]&0x20 != 0
		if b[at]&0x1f == 0x1f {
			for at++; at < len(b) && b[at]&0x80 != 0; at++ {
			}
		}
		at++
		if at >= len(b) {
			return ErrDamaged
		}
		length := int(b[at])
		at++
		switch {
		case length == 0x80 && constructed:
			levels = append(levels, level{-1})
		case length == 0x80:
			return ErrDamaged
		default:
			if n := length & 0x7f; length > 0x80 {
				if length = 0; n > 4 || at+n > len(b) {
					return ErrDamaged
				}
				for range n {
					length = length<<8 | int(b[at])
					at++
				}
			}
			end := at + length
			if end > len(b) || len(levels) > 0 && levels[len(levels)-1].end >= 0 && end > levels[len(levels)-1].end {
				return fmt.Errorf("%w: it is cut off", ErrDamaged)
			}
			if !constructed {
				at = end
			} else {
				levels = append(levels, level{end})
			}
		}
		if len(levels) > maxDepth {
			return fmt.Errorf("%w: it is nested too deep", ErrDamaged)
		}
	}
	return nil
}
