package win

import (
	"golang.org/x/text/encoding"
	"golang.org/x/text/encoding/charmap"
	"golang.org/x/text/encoding/japanese"
	"golang.org/x/text/encoding/korean"
	"golang.org/x/text/encoding/simplifiedchinese"
	"golang.org/x/text/encoding/traditionalchinese"
	"golang.org/x/text/encoding/unicode"
)

// codePages are the code pages that Windows can have as its own, by their numbers, "Code Page Identifiers" of
// Microsoft's documents.
var codePages = map[string]encoding.Encoding{"874": charmap.Windows874, "932": japanese.ShiftJIS,
	"936": simplifiedchinese.GBK, "949": korean.EUCKR, "950": traditionalchinese.Big5, "1250": charmap.Windows1250,
	"1251": charmap.Windows1251, "1252": charmap.Windows1252, "1253": charmap.Windows1253, "1254": charmap.Windows1254,
	"1255": charmap.Windows1255, "1256": charmap.Windows1256, "1257": charmap.Windows1257, "1258": charmap.Windows1258,
	"54936": simplifiedchinese.GB18030, "65001": unicode.UTF8}

// keyCodePage has the code pages of the machine: the value ACP is that of programs which do not use UTF-16.
const keyCodePage = `HKLM\SYSTEM\CurrentControlSet\Control\Nls\CodePage`

// Narrow decodes a text in the machine's own code page; ok is false where that is not known, or the text is none of it.
func (s *System) Narrow(b []byte) (text string, ok bool) {
	s.codePage.Do(func() { s.page = codePages[s.text(keyCodePage, "ACP")] })
	if s.page == nil {
		return "", false
	}
	decoded, err := s.page.NewDecoder().Bytes(b)
	if err != nil {
		return "", false
	}
	return string(decoded), true
}
