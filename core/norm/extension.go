package norm

import "encoding/binary"

// Header extensions (RFC 5740, section 4.1): a type, a length in words of 4 bytes
// and content; types of 128 and more are one word long and have no length.
const (
	extCC   = 3   // EXT_CC, congestion control feedback
	extFTI  = 64  // EXT_FTI, FEC object transmission information
	extRate = 128 // EXT_RATE, the sender's rate
)

// FTI is the object transmission information of FEC encoding id 5 (RFC 5510,
// section 5.2.3).
type FTI struct {
	TransferLength int64  // bytes, 48 bits; the buffer of a stream
	SymbolSize     uint16 // bytes
	MaxBlock       uint8  // source symbols of a block, at most
	// MaxN is the largest number of encoding symbols of a block. Older
	// implementations write the number of parity symbols there.
	MaxN uint8
}

// CC is a receiver's congestion control feedback (section 4.3.1).
type CC struct {
	Sequence uint16 // of the NORM_CMD(CC) that it answers
	Flags    uint8  // ccCLR …
	RTT      uint8  // quantized
	Loss     uint16 // quantized loss event rate
	Rate     uint16 // quantized
}

// Flags of congestion control, for EXT_CC and the list of nodes of NORM_CMD(CC).
const (
	ccCLR   = 0x01 // the current limiting receiver
	ccPLR   = 0x02 // a receiver that could become it
	ccRTT   = 0x04 // the receiver has measured its round trip
	ccStart = 0x08 // no loss yet: slow start
	ccLeave = 0x10 // the receiver is about to leave
)

// extensions are those of one message.
type extensions struct {
	FTI  *FTI
	CC   *CC
	Rate *uint16 // quantized
}

func (e extensions) append(b []byte) []byte {
	if f := e.FTI; f != nil {
		b = append(b, extFTI, 3)
		b = binary.BigEndian.AppendUint16(b, uint16(f.TransferLength>>32))
		b = binary.BigEndian.AppendUint32(b, uint32(f.TransferLength))
		b = binary.BigEndian.AppendUint16(b, f.SymbolSize)
		b = append(b, f.MaxBlock, f.MaxN)
	}
	if c := e.CC; c != nil {
		b = append(b, extCC, 3)
		b = binary.BigEndian.AppendUint16(b, c.Sequence)
		b = append(b, c.Flags, c.RTT)
		b = binary.BigEndian.AppendUint16(b, c.Loss)
		b = binary.BigEndian.AppendUint16(b, c.Rate)
		b = append(b, 0, 0)
	}
	if e.Rate != nil {
		b = append(b, extRate, 0)
		b = binary.BigEndian.AppendUint16(b, *e.Rate)
	}
	return b
}

// parseExtensions reads what stands between a header's fields and its end.
// Extensions that are not known are passed over (section 4.1).
func parseExtensions(b []byte) (e extensions, err error) {
	for len(b) > 0 {
		if len(b) < 4 {
			return e, ErrMessage
		}
		length := 4
		if b[0] < 128 {
			length = 4 * int(b[1])
		}
		if length == 0 || length > len(b) {
			return e, ErrMessage
		}
		switch x := b[:length]; {
		case x[0] == extFTI && length == 12:
			e.FTI = &FTI{
				TransferLength: int64(binary.BigEndian.Uint16(x[2:]))<<32 | int64(binary.BigEndian.Uint32(x[4:])),
				SymbolSize:     binary.BigEndian.Uint16(x[8:]), MaxBlock: x[10], MaxN: x[11],
			}
		case x[0] == extCC && length == 12:
			e.CC = &CC{
				Sequence: binary.BigEndian.Uint16(x[2:]), Flags: x[4], RTT: x[5],
				Loss: binary.BigEndian.Uint16(x[6:]), Rate: binary.BigEndian.Uint16(x[8:]),
			}
		case x[0] == extRate:
			rate := binary.BigEndian.Uint16(x[2:])
			e.Rate = &rate
		}
		b = b[length:]
	}
	return e, nil
}
