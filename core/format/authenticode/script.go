package authenticode

import (
	"bytes"
	"encoding/base64"
	"encoding/binary"
	"errors"
	"unicode/utf16"
	"unicode/utf8"
)

// The lines around the signature of a PowerShell script, about_Signing.
const (
	scriptBegin = "# SIG # Begin signature block"
	scriptEnd   = "# SIG # End signature block"
)

// ErrUnsigned says that there is no signature.
var ErrUnsigned = errors.New("it is not signed")

// Script takes a PowerShell script apart: into what its signature is over, the text before the
// signature's block as UTF-16, and the signature itself, a message for [Parse]. It fails with
// [ErrUnsigned] where there is no such block.
func Script(content []byte) (signed, message []byte, err error) {
	wide := bytes.HasPrefix(content, []byte{0xff, 0xfe})
	text := content
	if wide {
		text = narrow(content)
	}
	at := bytes.LastIndex(text, []byte(scriptBegin))
	if at < 0 || at > 0 && text[at-1] != '\n' {
		return nil, nil, ErrUnsigned
	}
	block := text[at+len(scriptBegin):]
	end := bytes.Index(block, []byte(scriptEnd))
	if end < 0 {
		return nil, nil, errors.New("its signature is cut off")
	}
	if rest := bytes.TrimSpace(block[end+len(scriptEnd):]); len(rest) > 0 {
		return nil, nil, errors.New("something was added behind its signature")
	}
	var encoded []byte
	for line := range bytes.Lines(block[:end]) {
		encoded = append(encoded, bytes.TrimSpace(bytes.TrimPrefix(line, []byte("# ")))...)
	}
	if message, err = base64.StdEncoding.DecodeString(string(encoded)); err != nil {
		return nil, nil, errors.New("its signature is damaged")
	}
	// The end of the line before the block belongs to the block.
	before := bytes.TrimSuffix(bytes.TrimSuffix(text[:at], []byte("\n")), []byte("\r"))
	switch {
	case wide:
		return content[:2*len(before)], message, nil
	case !utf8.Valid(before):
		return nil, nil, errors.New("in which encoding it was signed cannot be told")
	}
	for _, u := range utf16.Encode([]rune(string(before))) {
		signed = binary.LittleEndian.AppendUint16(signed, u)
	}
	return signed, message, nil
}

// narrow keeps of a text in UTF-16 what is ASCII, one byte for each unit.
func narrow(content []byte) []byte {
	text := make([]byte, len(content)/2)
	for k := range text {
		if text[k] = content[2*k]; content[2*k+1] != 0 {
			text[k] = 0xff
		}
	}
	return text
}
