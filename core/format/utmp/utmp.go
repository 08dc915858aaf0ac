// Package utmp reads the files in which systems note who is signed in and when they were started: wtmp and utmp of
// Linux, and utmpx of macOS.
//
//	for _, r := range utmp.Parse(text) {
//		if r.Type == utmp.Boot {
//			fmt.Println("started", r.Time)
//		}
//	}
//
// A file is records of one size. Those of Linux are as utmp(5) has them for 64-bit machines, those of macOS as struct
// utmpx32 of Apple's Libc (utmpx-darwin.h); which it is shows in the first record, which a Mac marks with its version.
package utmp

import (
	"bytes"
	"encoding/binary"
	"time"
)

// Type says what a record is about; the other types are about terminals and clocks.
type Type uint16

// The types that are the same on both systems, utmp(5) and getutxent(3).
const (
	Boot   Type = 2 // the system was started
	SignIn Type = 7 // a user signed in
)

// Record is one note.
type Record struct {
	Type Type
	User string
	Time time.Time // in UTC, to the second
}

// layout is where things stand in a record.
type layout struct{ size, kind, user, userLen, time int }

var (
	linux = layout{size: 384, kind: 0, user: 44, userLen: 32, time: 340}
	mac   = layout{size: 628, kind: 296, user: 0, userLen: 256, time: 300}
)

// signature is what stands where the first record of a Mac's file has a user.
const signature = "utmpx-1.00\x00"

// Parse reads all whole records; what is behind the last of them is left out.
func Parse(text []byte) []Record {
	at := linux
	if bytes.HasPrefix(text, []byte(signature)) && len(text) >= mac.size {
		at = mac
		text = text[mac.size:]
	}
	all := make([]Record, 0, len(text)/at.size)
	for ; len(text) >= at.size; text = text[at.size:] {
		user, _, _ := bytes.Cut(text[at.user:at.user+at.userLen], []byte{0})
		all = append(all, Record{
			Type: Type(binary.LittleEndian.Uint16(text[at.kind:])), User: string(user),
			Time: time.Unix(int64(binary.LittleEndian.Uint32(text[at.time:])), 0).UTC(),
		})
	}
	return all
}
