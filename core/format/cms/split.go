package cms

import (
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/asn1"
	"errors"
	"math/big"
	"time"
)

// split takes off a message what nobody signed: the attributes that were added to its signer
// later, time stamps and nested signatures. They are damaged for themselves: a signature does not
// fall with its time stamp. It fails where the message is not in the distinguished form of ASN.1,
// on its upper levels.
func (m *Message) split(message []byte) (signed []byte, err error) {
	damaged := errors.New("not in distinguished form")
	var outer struct {
		Type    asn1.ObjectIdentifier
		Content asn1.RawValue `asn1:"explicit,tag:0"`
	}
	if _, err := asn1.Unmarshal(message, &outer); err != nil {
		return nil, err
	}
	var data asn1.RawValue
	if _, err := asn1.Unmarshal(outer.Content.Bytes, &data); err != nil {
		return nil, err
	}
	parts, err := elements(data.Bytes)
	if err != nil || len(parts) < 4 {
		return nil, damaged
	}
	algorithms, err := elements(parts[1].Bytes)
	if err != nil {
		return nil, err
	}
	for _, a := range algorithms {
		var id asn1.ObjectIdentifier
		if _, err := asn1.Unmarshal(a.Bytes, &id); err == nil {
			m.digests = append(m.digests, id)
		}
	}
	content, err := elements(parts[2].Bytes)
	if err != nil || len(content) == 0 || len(content) > 2 {
		return nil, ErrDamaged
	}
	// Of what kind the content is stands beside what is signed.
	if _, err := asn1.Unmarshal(content[0].FullBytes, &m.Type); err != nil {
		return nil, ErrDamaged
	}
	if len(content) == 2 {
		// What was signed is a sequence, or bytes: its head is not signed.
		var value asn1.RawValue
		if rest, err := asn1.Unmarshal(content[1].Bytes, &value); err != nil || len(rest) > 0 ||
			value.Class != asn1.ClassUniversal || value.Tag != asn1.TagSequence && value.Tag != asn1.TagOctetString {
			return nil, ErrDamaged
		}
	}
	for k := range parts {
		if parts[k].Class == asn1.ClassContextSpecific && parts[k].Tag == 0 && k > 2 {
			if parts[k], err = readable(parts[k]); err != nil {
				return nil, err
			}
		}
	}
	signers := &parts[len(parts)-1]
	var signer asn1.RawValue
	if rest, err := asn1.Unmarshal(signers.Bytes, &signer); err != nil || len(rest) > 0 {
		return nil, damaged
	}
	fields, err := elements(signer.Bytes)
	if err != nil || len(fields) == 0 {
		return nil, damaged
	}
	if last := fields[len(fields)-1]; last.Class == asn1.ClassContextSpecific && last.Tag == 1 {
		fields = fields[:len(fields)-1]
		values, err := elements(last.Bytes)
		if err != nil {
			return nil, ErrDamaged
		}
		for _, v := range values {
			var a Attribute
			if _, err := asn1.Unmarshal(v.FullBytes, &a); err != nil {
				return nil, ErrDamaged
			}
			if _, err := elements(a.Value.Bytes); err != nil {
				return nil, ErrDamaged
			}
			m.Added = append(m.Added, a)
		}
	}
	*signers = enclose(asn1.ClassUniversal, asn1.TagSet, enclose(asn1.ClassUniversal, asn1.TagSequence, fields...))
	whole := enclose(asn1.ClassContextSpecific, 0, enclose(asn1.ClassUniversal, asn1.TagSequence, parts...))
	kind, err := asn1.Marshal(outer.Type)
	if err != nil {
		return nil, err
	}
	return enclose(asn1.ClassUniversal, asn1.TagSequence, asn1.RawValue{FullBytes: kind}, whole).FullBytes, nil
}

// nameSET is a part of a name; encoding/asn1 takes a type called so for a set.
type nameSET []struct {
	Type  asn1.ObjectIdentifier
	Value asn1.RawValue
}

// certificate is the form of one, RFC 5280, 4.1, without what its fields mean.
type certificate struct {
	Signed struct {
		Version   int `asn1:"optional,explicit,default:0,tag:0"`
		Serial    *big.Int
		Algorithm pkix.AlgorithmIdentifier
		Issuer    []nameSET
		Validity  struct{ From, To time.Time }
		Subject   []nameSET
		Key       struct {
			Algorithm pkix.AlgorithmIdentifier
			Key       asn1.BitString
		}
		IssuerID   asn1.BitString  `asn1:"optional,tag:1"`
		SubjectID  asn1.BitString  `asn1:"optional,tag:2"`
		Extensions []asn1.RawValue `asn1:"omitempty,optional,explicit,tag:3"`
	}
	Algorithm pkix.AlgorithmIdentifier
	Signature asn1.BitString
}

// readable leaves out the certificates whose fields mean nothing that is understood: messages
// often hold more than are needed, and one that is needed will be missed. One that has not even
// the form of a certificate is damage.
func readable(certificates asn1.RawValue) (asn1.RawValue, error) {
	all, err := elements(certificates.Bytes)
	if err != nil {
		return certificates, err
	}
	kept := all[:0]
	for _, c := range all {
		var form certificate
		if _, err := asn1.Unmarshal(c.FullBytes, &form); err != nil {
			return certificates, ErrDamaged
		}
		for _, e := range form.Signed.Extensions {
			if parts, err := elements(e.Bytes); err != nil || len(parts) < 2 || len(parts) > 3 ||
				parts[len(parts)-1].Tag != asn1.TagOctetString {
				return certificates, ErrDamaged
			}
		}
		if _, err := x509.ParseCertificate(c.FullBytes); err == nil {
			kept = append(kept, c)
		}
	}
	return enclose(certificates.Class, certificates.Tag, kept...), nil
}

func elements(b []byte) ([]asn1.RawValue, error) {
	var all []asn1.RawValue
	for len(b) > 0 && len(all) < maxElements {
		var one asn1.RawValue
		rest, err := asn1.Unmarshal(b, &one)
		if err != nil {
			return nil, err
		}
		all, b = append(all, one), rest
	}
	return all, nil
}

// enclose gives values a head of their own.
func enclose(class, tag int, values ...asn1.RawValue) asn1.RawValue {
	var b []byte
	for _, v := range values {
		b = append(b, v.FullBytes...)
	}
	full, err := asn1.Marshal(asn1.RawValue{Class: class, Tag: tag, IsCompound: true, Bytes: b})
	if err != nil {
		return asn1.RawValue{}
	}
	return asn1.RawValue{Class: class, Tag: tag, IsCompound: true, Bytes: b, FullBytes: full}
}
