package norm

import "encoding/binary"

// form is how a repair request names what it wants (section 4.3.1).
type form uint8

const (
	formItems    form = iota + 1 // each item one thing
	formRanges                   // pairs of items, first and last
	formErasures                 // blocks; the symbol id is how many symbols are lacking
)

// level is what a repair request wants of its items: bits, and INFO may stand
// beside another.
type level uint8

const (
	wantSegment level = 0x01
	wantBlock   level = 0x02
	wantInfo    level = 0x04
	wantObject  level = 0x08
)

// request is one repair request:
//
//	|     form      |     flags     |             length            |
//	|                     repair_request_items                      |
//
// and an item is
//
//	|    fec_id     |   reserved    |      object_transport_id      |
//	|                         fec_payload_id                        |
type request struct {
	Form  form
	Level level
	Items []position
}

const (
	requestHeader = 4
	itemSize      = 8
)

func (r request) size() int { return requestHeader + itemSize*len(r.Items) }

func appendRequests(b []byte, requests []request) []byte {
	for _, r := range requests {
		b = append(b, byte(r.Form), byte(r.Level))
		b = binary.BigEndian.AppendUint16(b, uint16(itemSize*len(r.Items)))
		for _, i := range r.Items {
			b = binary.BigEndian.AppendUint16(append(b, fecID, 0), uint16(i.Object))
			b = i.appendPayloadID(b)
		}
	}
	return b
}

func parseRequests(b []byte) (requests []request, err error) {
	for len(b) > 0 {
		if len(b) < requestHeader {
			return nil, ErrMessage
		}
		r := request{Form: form(b[0]), Level: level(b[1])}
		length := int(binary.BigEndian.Uint16(b[2:]))
		b = b[requestHeader:]
		if length > len(b) || length%itemSize != 0 || r.Form < formItems || r.Form > formErasures ||
			r.Form == formRanges && length%(2*itemSize) != 0 {
			return nil, ErrMessage
		}
		for items := b[:length]; len(items) > 0; items = items[itemSize:] {
			if items[0] != fecID {
				return nil, ErrMessage
			}
			p := position{Object: ObjectID(binary.BigEndian.Uint16(items[2:]))}
			p.Block, p.Symbol = parsePayloadID(items[4:])
			r.Items = append(r.Items, p)
		}
		requests = append(requests, r)
		b = b[length:]
	}
	return requests, nil
}

// requestBuilder puts needs into requests, those of one kind behind each other
// into one, and requests into messages up to a size in bytes.
type requestBuilder struct {
	before   [][]request // messages that are full
	requests []request   // of the last one
	left     int         // bytes, in the last one
	more     int         // messages that may follow
}

// full tells whether there may be no room for another need.
func (q *requestBuilder) full() bool { return q.left < requestHeader+2*itemSize && q.more == 0 }

// messages are the requests of each message.
func (q *requestBuilder) messages() [][]request {
	if len(q.requests) == 0 {
		return q.before
	}
	return append(q.before, q.requests)
}

// add appends a need; it is false when there is no room.
func (q *requestBuilder) add(f form, l level, items ...position) bool {
	need := itemSize * len(items)
	last := len(q.requests) - 1
	other := last < 0 || q.requests[last].Form != f || q.requests[last].Level != l
	if other {
		need += requestHeader
	}
	switch {
	case need <= q.left:
	case q.more == 0:
		return false
	default:
		q.before, q.requests = append(q.before, q.requests), nil
		q.left, q.more = nackSize, q.more-1
		return q.add(f, l, items...)
	}
	q.left -= need
	if other {
		q.requests = append(q.requests, request{Form: f, Level: l})
		last++
	}
	q.requests[last].Items = append(q.requests[last].Items, items...)
	return true
}
