package program

import (
	"bytes"
	"crypto"
	"errors"
	"slices"
	"strings"

	"lockback/core/autostart"
	"lockback/core/format/authenticode"
	"lockback/core/machine"
)

// scriptEndings are those of the scripts of PowerShell that a signature can stand in.
var scriptEndings = []string{".ps1", ".psm1", ".psd1"}

// maxScript is the largest script that is read, in bytes.
const maxScript = 16 << 20

// windowsScripts tells who signed scripts of PowerShell.
func windowsScripts(m *machine.Reader, files []*File) {
	files = slices.DeleteFunc(slices.Clone(files), func(f *File) bool {
		name := strings.ToLower(f.Path)
		return !slices.ContainsFunc(scriptEndings, func(e string) bool { return strings.HasSuffix(name, e) })
	})
	if len(files) == 0 {
		return
	}
	trust := windowsTrust(m)
	sharedOut(files, func(f *File) {
		f.Kind = "PowerShell script"
		content, err := m.ReadFile(f.Path, maxScript)
		if err != nil {
			f.Evidence = append(f.Evidence, unread("the script", err))
			return
		}
		text, message, err := authenticode.Script(content)
		switch {
		case errors.Is(err, authenticode.ErrUnsigned):
			return
		case err == nil:
			var e Evidence
			if e, err = scriptSignature(text, message, trust); err == nil {
				f.Evidence = append(f.Evidence, e)
				return
			}
		}
		f.Evidence = append(f.Evidence, invalidSignature(err.Error()))
	})
}

func scriptSignature(text, message []byte, trust *trust) (Evidence, error) {
	signatures, err := authenticode.Parse(message)
	if err != nil {
		return Evidence{}, err
	}
	return judgeSignature(&signatures[0], func(h crypto.Hash) ([]byte, error) {
		sum := h.New()
		sum.Write(text)
		return sum.Sum(nil), nil
	}, trust)
}

// invalidSignature says that a signature is not of the file that it stands in.
func invalidSignature(why string) Evidence {
	return Evidence{Source: itsSignature, State: Changed, Problems: []string{autostart.SignatureInvalid},
		Notes: []Note{{Kind: autostart.FactSignature, Text: "does not hold: " + why}}}
}

// itsSignature is the source of what a signature in the file itself says.
const itsSignature = "its signature"

// judgeSignature compares one signature with what it is said to be over, and looks who made it.
func judgeSignature(s *authenticode.Signature, digest func(crypto.Hash) ([]byte, error), trust *trust) (Evidence,
	error) {
	switch {
	case s.Err != nil:
		return Evidence{}, s.Err
	case s.Algorithm == 0:
		return Evidence{}, errors.New("it has a digest that is not known")
	}
	sum, err := digest(s.Algorithm)
	if err != nil {
		return Evidence{}, err
	}
	if !bytes.Equal(sum, s.Sum) {
		return Evidence{}, errors.New("the file is not what was signed")
	}
	e := signedBy(s, trust)
	e.State, e.Source = Unchanged, itsSignature
	return e, nil
}
