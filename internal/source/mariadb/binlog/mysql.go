package binlog

import (
	"encoding/binary"
	"errors"
	"fmt"
	"hash/crc32"

	"github.com/google/uuid"
	"github.com/klauspost/compress/zstd"
)

// myBegin reads what begins a transaction of a MySQL server: its global id and, from version
// 8.0 on, the time of its commit (Gtid_event).
func myBegin(h Header, r *reader) (*Begin, error) {
	e := &Begin{Server: h.Server, Alone: true}
	r.skip(1)
	if id, err := uuid.FromBytes(r.take(16)); err == nil {
		e.Origin = id.String()
	}
	e.Seq = r.uint(8)
	const logical, moment = 1 + 8 + 8, 7
	if r.err == nil && len(r.data) >= logical+moment {
		r.skip(logical)
		e.Moment = int64(r.uint(moment) &^ (1 << 55)) // the highest bit says that another time follows
	}
	return e, r.err
}

// Fields of a compressed transaction (Transaction_payload_event).
const (
	payloadEnd         = 0
	payloadSize        = 1
	payloadCompression = 2
	payloadExpanded    = 3

	compressedByZstd = 0
	notCompressed    = 255
)

// payload takes a compressed transaction apart (RFC 8878). Its events have no checksums; they
// are given what the others have.
func (d *Decoder) payload(r *reader) (*Payload, error) {
	compression, expanded := uint64(compressedByZstd), uint64(0)
	for r.err == nil {
		kind := r.length()
		if kind == payloadEnd {
			break
		}
		field := reader{data: r.take(int(min(r.length(), 1<<20)))}
		switch kind {
		case payloadCompression:
			compression = field.length()
		case payloadExpanded:
			expanded = field.length()
		case payloadSize:
		}
		if field.err != nil {
			return nil, field.err
		}
	}
	if r.err != nil {
		return nil, r.err
	}
	content := r.data
	switch {
	case compression == notCompressed:
	case compression != compressedByZstd:
		return nil, fmt.Errorf("a transaction of the binary log is compressed in the way %d, which is not known",
			compression)
	case expanded > largest:
		return nil, fmt.Errorf("a compressed transaction of the binary log would have %d bytes", expanded)
	default:
		z, err := zstd.NewReader(nil, zstd.WithDecoderConcurrency(1), zstd.WithDecoderMaxMemory(largest))
		if err != nil {
			return nil, err
		}
		defer z.Close()
		if content, err = z.DecodeAll(content, nil); err != nil {
			return nil, err
		}
		if uint64(len(content)) != expanded {
			return nil, errShort
		}
	}
	p := &Payload{}
	for len(content) > 0 {
		if len(content) < headerSize {
			return nil, errShort
		}
		size := int(binary.LittleEndian.Uint32(content[9:]))
		if size < headerSize || size > len(content) {
			return nil, errShort
		}
		event := content[:size:size]
		content = content[size:]
		if event[4] == typePayload {
			return nil, errors.New("a compressed transaction of the binary log holds another one")
		}
		if d.checksum {
			event = binary.LittleEndian.AppendUint32(event, crc32.ChecksumIEEE(event))
		}
		p.Events = append(p.Events, event)
	}
	return p, nil
}
