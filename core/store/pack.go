package store

import (
	"bytes"
	"errors"
	"io"
	"sync"

	"github.com/klauspost/compress/zstd"
)

// encoder is made when it is first needed: most runs need none.
var encoder = sync.OnceValue(func() *zstd.Encoder {
	e, err := zstd.NewWriter(nil, zstd.WithEncoderConcurrency(1), zstd.WithWindowSize(1<<20),
		zstd.WithEncoderCRC(false))
	if err != nil {
		panic(err) // the options are constants
	}
	return e
})

// decoders are kept for the next content. One serves one content at a time, and two records may be read side by side.
var decoders = sync.Pool{New: func() any {
	d, err := zstd.NewReader(nil, zstd.WithDecoderConcurrency(1), zstd.WithDecoderMaxMemory(maxContent))
	if err != nil {
		panic(err)
	}
	return d
}}

// unpack unpacks a content of a known size. What says that it is larger is not begun.
func unpack(data []byte, size int64) ([]byte, error) {
	var head zstd.Header
	if err := head.Decode(data); err != nil {
		return nil, err
	}
	if head.HasFCS && head.FrameContentSize != uint64(size) || head.WindowSize > maxContent {
		return nil, errors.New("another size than the record says")
	}
	d := decoders.Get().(*zstd.Decoder)
	defer decoders.Put(d)
	if err := d.Reset(bytes.NewReader(data)); err != nil {
		return nil, err
	}
	content := make([]byte, size)
	if _, err := io.ReadFull(d, content); err != nil && size > 0 {
		return nil, err
	}
	if n, err := d.Read(make([]byte, 1)); n > 0 || err != io.EOF {
		return nil, errors.New("more than the record says")
	}
	return content, nil
}
