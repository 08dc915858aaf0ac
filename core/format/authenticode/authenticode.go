// Package authenticode reads the signatures of Windows: of programs, of catalogues of files, of
// scripts. It tells what was signed, by whom, when, and whether the signature itself holds. The
// caller decides whom to trust: it has the roots, see [Signature.Anchored].
//
//	for _, s := range must(authenticode.Parse(message)) {
//		fmt.Println(s.Signer.Subject, s.Algorithm, s.Sum, s.Err)
//	}
//
// The form is that of "Windows Authenticode Portable Executable Signature Format": a PKCS #7
// message (RFC 2315) over an SpcIndirectDataContent. Time stamps are those of RFC 3161, or
// countersignatures of PKCS #9.
package authenticode

import (
	"bytes"
	"crypto"
	"crypto/x509"
	"encoding/asn1"
	"encoding/binary"
	"errors"
	"fmt"
	"math/big"
	"time"

	"lockback/core/format/cms"
)

// maxNested is how many signatures are read in one.
const maxNested = 16

// Signature is one signature.
type Signature struct {
	// Algorithm and Sum are the digest of what was signed: of the image of a program, of the
	// text of a script. Algorithm is 0 if it is one that is not known.
	Algorithm crypto.Hash
	Sum       []byte
	// Content is what was signed: of a catalogue, its list.
	Content []byte
	// Signer made the signature. Certificates are all that came with it.
	Signer       *x509.Certificate
	Certificates []*x509.Certificate
	// Err says why the signature does not hold by itself; nil where it does.
	Err error
	// Time is when it was made, as Stamper says; the zero time if no time stamp holds.
	Time    time.Time
	Stamper *x509.Certificate
	// StampErr says why the time stamp does not hold; nil where it does or there is none.
	StampErr error

	stamperCertificates []*x509.Certificate
}

// Identifiers of objects, from the document above, RFC 3161 and PKCS #9.
var (
	oidIndirectData     = asn1.ObjectIdentifier{1, 3, 6, 1, 4, 1, 311, 2, 1, 4}
	oidCatalogue        = asn1.ObjectIdentifier{1, 3, 6, 1, 4, 1, 311, 10, 1}
	oidStampInfo        = asn1.ObjectIdentifier{1, 2, 840, 113549, 1, 9, 16, 1, 4}
	oidNested           = asn1.ObjectIdentifier{1, 3, 6, 1, 4, 1, 311, 2, 4, 1}
	oidTimeStamp        = asn1.ObjectIdentifier{1, 3, 6, 1, 4, 1, 311, 3, 3, 1}
	oidCountersignature = asn1.ObjectIdentifier{1, 2, 840, 113549, 1, 9, 6}
	oidSigningTime      = asn1.ObjectIdentifier{1, 2, 840, 113549, 1, 9, 5}
)

// digests are the algorithms by their identifiers.
var digests = []struct {
	id   asn1.ObjectIdentifier
	hash crypto.Hash
}{
	{asn1.ObjectIdentifier{1, 2, 840, 113549, 2, 5}, crypto.MD5},
	{asn1.ObjectIdentifier{1, 3, 14, 3, 2, 26}, crypto.SHA1},
	{asn1.ObjectIdentifier{2, 16, 840, 1, 101, 3, 4, 2, 1}, crypto.SHA256},
	{asn1.ObjectIdentifier{2, 16, 840, 1, 101, 3, 4, 2, 2}, crypto.SHA384},
	{asn1.ObjectIdentifier{2, 16, 840, 1, 101, 3, 4, 2, 3}, crypto.SHA512},
}

func hashOf(id asn1.ObjectIdentifier) crypto.Hash {
	for _, d := range digests {
		if d.id.Equal(id) {
			return d.hash
		}
	}
	return 0
}

// indirectData is SpcIndirectDataContent without what its data is of.
type indirectData struct {
	Data   asn1.RawValue
	Digest struct {
		Algorithm struct {
			ID         asn1.ObjectIdentifier
			Parameters asn1.RawValue `asn1:"optional"`
		}
		Sum []byte
	}
}

// Parse reads a signature and those that are nested in it, the outer one first. It fails if the
// bytes are no such message.
func Parse(message []byte) ([]Signature, error) { return parse(message, 0) }

func parse(message []byte, depth int) (all []Signature, err error) {
	p, err := cms.Parse(message)
	if err != nil {
		return nil, err
	}
	if p.Type != nil && !p.Type.Equal(oidIndirectData) && !p.Type.Equal(oidCatalogue) {
		return nil, fmt.Errorf("%w: it signs something else", cms.ErrDamaged)
	}
	s := Signature{Content: p.Content, Signer: p.Signer, Certificates: p.Certificates}
	var data indirectData
	// What was signed stands without its own head, see PKCS #7, 9.3.
	if _, err := asn1.Unmarshal(sequence(p.Content), &data); err == nil {
		s.Algorithm, s.Sum = hashOf(data.Digest.Algorithm.ID), data.Digest.Sum
	}
	s.Err = p.Check()
	s.stamp(p)
	all = []Signature{s}
	for _, a := range p.Added {
		if !a.Type.Equal(oidNested) || depth > 0 {
			continue
		}
		for set := a.Value.Bytes; len(set) > 0 && len(all) < maxNested; {
			var one asn1.RawValue
			if set, err = asn1.Unmarshal(set, &one); err != nil {
				break
			}
			nested, err := parse(one.FullBytes, depth+1)
			if err != nil {
				return nil, err
			}
			all = append(all, nested...)
		}
	}
	return all, nil
}

// sequence gives content that stands without its head one.
func sequence(content []byte) []byte {
	b, err := asn1.Marshal(asn1.RawValue{Tag: asn1.TagSequence, IsCompound: true, Bytes: content})
	if err != nil {
		return nil
	}
	return b
}

// stampInfo is TSTInfo of RFC 3161, 2.4.2, as far as it is used.
type stampInfo struct {
	Version int
	Policy  asn1.ObjectIdentifier
	Imprint struct {
		Algorithm struct {
			ID         asn1.ObjectIdentifier
			Parameters asn1.RawValue `asn1:"optional"`
		}
		Sum []byte
	}
	Serial *big.Int
	Time   time.Time     `asn1:"generalized"`
	Rest   asn1.RawValue `asn1:"optional"`
}

// stamp reads the time stamp, of whichever kind there is.
func (s *Signature) stamp(p *cms.Message) {
	signature := p.Signers[0].EncryptedDigest
	for _, a := range p.Added {
		switch {
		case a.Type.Equal(oidTimeStamp):
			s.Time, s.Stamper, s.stamperCertificates, s.StampErr = timeStamp(a.Value.Bytes, signature)
		case a.Type.Equal(oidCountersignature):
			s.Time, s.Stamper, s.StampErr = countersignature(p, a.Value.Bytes)
			s.stamperCertificates = p.Certificates
		default:
			continue
		}
		return
	}
}

// timeStamp reads a time stamp of RFC 3161 over a signature.
func timeStamp(message, signature []byte) (at time.Time, by *x509.Certificate, with []*x509.Certificate, err error) {
	t, err := cms.Parse(message)
	if err != nil {
		return at, nil, nil, fmt.Errorf("the time stamp: %w", err)
	}
	if err := t.Check(); err != nil {
		return at, t.Signer, t.Certificates, fmt.Errorf("the time stamp does not hold: %w", err)
	}
	var info stampInfo
	if _, err := asn1.Unmarshal(t.Content, &info); err != nil || t.Type != nil && !t.Type.Equal(oidStampInfo) {
		return at, t.Signer, t.Certificates, errors.New("the time stamp is damaged")
	}
	hash := hashOf(info.Imprint.Algorithm.ID)
	if hash == 0 || !bytes.Equal(sumOf(hash, signature), info.Imprint.Sum) {
		return at, t.Signer, t.Certificates, errors.New("the time stamp is of another signature")
	}
	return info.Time.UTC(), t.Signer, t.Certificates, nil
}

// countersignature reads one of PKCS #9 over the signature of a message.
func countersignature(p *cms.Message, value []byte) (at time.Time, by *x509.Certificate, err error) {
	c, err := p.Countersigned(value)
	if err != nil {
		return at, nil, fmt.Errorf("the countersignature: %w", err)
	}
	if err := c.Check(); err != nil {
		return at, c.Signer, fmt.Errorf("the countersignature does not hold: %w", err)
	}
	for _, a := range c.Signers[0].AuthenticatedAttributes {
		if a.Type.Equal(oidSigningTime) {
			if _, err := asn1.Unmarshal(a.Value.Bytes, &at); err == nil {
				return at.UTC(), c.Signer, nil
			}
		}
	}
	return at, c.Signer, errors.New("the countersignature has no time")
}

func sumOf(hash crypto.Hash, b []byte) []byte {
	h := hash.New()
	h.Write(b)
	return h.Sum(nil)
}

// Anchored traces the signer to one of the roots, at the time of the time stamp, or at now where
// there is none that holds. It returns the root. A signer must be one that may sign programs, and
// a time stamp counts only where its signer may make them and is traced to a root, too.
func (s *Signature) Anchored(roots []*x509.Certificate, now time.Time) (root *x509.Certificate, err error) {
	at := now
	if !s.Time.IsZero() && s.Stamper != nil && s.StampErr == nil {
		if _, err := trace(s.Stamper, s.stamperCertificates, roots, s.Time, x509.ExtKeyUsageTimeStamping); err == nil {
			at = s.Time
		}
	}
	return trace(s.Signer, s.Certificates, roots, at, x509.ExtKeyUsageCodeSigning)
}

func trace(cert *x509.Certificate, with, roots []*x509.Certificate, at time.Time,
	usage x509.ExtKeyUsage) (*x509.Certificate, error) {
	known, between := x509.NewCertPool(), x509.NewCertPool()
	for _, c := range roots {
		known.AddCert(c)
	}
	for _, c := range with {
		between.AddCert(c)
	}
	chains, err := cert.Verify(x509.VerifyOptions{Roots: known, Intermediates: between, CurrentTime: at,
		KeyUsages: []x509.ExtKeyUsage{usage}})
	if err != nil {
		return nil, err
	}
	return chains[0][len(chains[0])-1], nil
}

// StoredCertificate reads a certificate from a value "Blob" of the registry's certificate stores:
// a list of properties, each with its number, a reserved number, its size and its content. The
// certificate itself is number 32, CERT_CERT_PROP_ID.
func StoredCertificate(blob []byte) (*x509.Certificate, error) {
	for len(blob) >= 12 {
		id, size := binary.LittleEndian.Uint32(blob), binary.LittleEndian.Uint32(blob[8:])
		blob = blob[12:]
		if int64(size) > int64(len(blob)) {
			break
		}
		if id == 32 {
			return x509.ParseCertificate(blob[:size])
		}
		blob = blob[size:]
	}
	return nil, errors.New("no certificate in it")
}
