package oracle

import (
	"bytes"
	"context"
	"encoding/binary"
	"errors"

	"gentle-harbor/internal/engine"
)

// The kinds of messages inside data packets, and the functions that a client calls. Sources:
// node-oracledb, lib/thin/protocol/constants.js; go-ora, connection.go (readMsg), command.go.
const (
	messageProtocol  = 1
	messageTypes     = 2
	messageFunction  = 3
	messageError     = 4 // how a call ended, well or not
	messageHeader    = 6
	messageRow       = 7
	messageParameter = 8
	messageStatus    = 9
	messageWarning   = 15
	messageDescribe  = 16
	messageBefore    = 17 // what a client says before a call
	messageBits      = 21
	messageBeside    = 23 // what the server says beside an answer

	callFetch     = 5
	callLogOff    = 9
	callCommit    = 14
	callRollback  = 15
	callExecute   = 94
	callClose     = 105
	callLogIn     = 115
	callBeginning = 118
)

// What server and client can do, by the place in the list that each sends of itself
// (node-oracledb, lib/thin/protocol/capabilities.js).
const (
	canLogIn        = 4
	canFields       = 7 // the version of the messages' fields
	canEnd          = 15
	canSequence     = 16
	canWideTypes    = 27
	canPieces       = 37
	logInMixes      = 0x20 // a login's keys are mixed with rounds of a hash
	piecesAreWide   = 0x20
	piecesHaveZones = 0x02
)

// fields is the newest version of the messages' fields that is spoken: that of 18c. A server
// speaks what both know.
const fields = 11

// charset is UTF-8, by the number that the engine has for it: a server turns all texts into it.
const charset = 873

// spoken is what was agreed with a server. The zero value is of a server that can do nothing.
type spoken struct {
	fields        int64
	end, sequence bool // messageError says more
	mixes         bool
	pieces        bool
	national      int // the number of the character set of national texts
	longTexts     bool
	wide          bool // kinds of data have numbers of two bytes
	zones         bool // time zones are said, and
	numbered      bool // the version of their list
	banner        string
}

// ours is what this client can do, the same list as go-ora's (data_type_nego.go): its authors
// have met servers from 10.2 on.
func ours() (compiled, running []byte) {
	compiled = []byte{
		6, 1, 0, 0, 0x6a, 1, 1, fields, 1, 1, 1, 1, 1, 1, 0, 0x29, 0x90, 3, 7, 3, 0, 1, 0, 0xeb, 1, 0, 5, 1, 0,
		0, 0, 24, 0, 0, 7, 0x20, 2, 0x3a, 0, 0, 5,
	}
	return compiled, []byte{2, 1, 0, 0, 0, 0, 0}
}

// types are the kinds of data that this client knows, from and to, each of which comes in the
// form that goes over any network; those of others stand for what is in ways. The second list is
// for servers from 12.1 on, and the third for those from 12.2 on (go-ora, data_type_nego.go).
var types = [][][2]uint16{
	{{1, 1}, {8, 8}, {10, 11}, {23, 33}, {40, 41}, {96, 96}, {100, 102}, {106, 106}, {109, 109}, {111, 115},
		{117, 117}, {120, 120}, {146, 146}, {178, 183}, {185, 190}, {208, 208}, {231, 231},
		{233, 233}, {252, 252}, {290, 294}, {298, 313}, {315, 323}, {327, 329}, {331, 331}, {333, 346},
		{348, 349}, {354, 355}, {359, 359}, {363, 363}, {380, 391}, {393, 401}, {404, 407},
		{413, 427}, {429, 433}, {449, 450}, {454, 463}, {466, 486}, {490, 496}, {498, 502}, {509, 510},
		{513, 514}, {516, 543}, {560, 560}, {563, 565}, {572, 576}, {578, 585}},
	{{590, 605}, {611, 616}, {622, 632}, {636, 638}},
	{{639, 640}},
}

// ways are kinds of data that come as another one: what they come as, and in which form. Those
// that come as nothing are not known here.
var ways = []struct{ kind, as, form uint16 }{
	{2, 2, 10}, {12, 12, 10}, {3, 2, 10}, {4, 2, 10}, {5, 1, 1}, {6, 2, 10}, {7, 2, 10}, {9, 1, 1}, {15, 23, 1},
	{39, 120, 1}, {68, 2, 10}, {91, 2, 10}, {94, 1, 1}, {95, 23, 1}, {97, 96, 1},
	{104, 11, 1}, {108, 109, 1}, {110, 111, 1}, {116, 102, 1}, {152, 2, 10}, {153, 2, 10}, {154, 2, 10},
	{155, 1, 1}, {156, 12, 10}, {172, 2, 10}, {184, 12, 10}, {195, 112, 1}, {196, 113, 1},
	{197, 114, 1}, {232, 231, 1}, {241, 109, 1},
}

// negotiate agrees with the server on the form of all further messages.
func (s *stream) negotiate(ctx context.Context) (spoken, error) {
	over := s.during(ctx)
	defer over()
	var told spoken
	if err := s.send(append([]byte{messageProtocol, 6, 0}, program+"\x00"...)); err != nil {
		return told, engine.Broken(ctx, "greeting", err)
	}
	r := &reader{stream: s, most: mostText}
	theirs, theirsNow := told.protocol(r)
	if r.err != nil {
		return told, ended(ctx, "greeting", r.err)
	}
	if err := s.send(told.kinds(theirs, theirsNow)); err != nil {
		return told, engine.Broken(ctx, "greeting", err)
	}
	told.agreed(r)
	if r.err != nil {
		return told, ended(ctx, "greeting", r.err)
	}
	return told, nil
}

// ended gives the failure of a leg for an error of a reader.
func ended(ctx context.Context, leg string, err error) error {
	if errors.Is(err, errReset) {
		return engine.Malformed("a marker where none may be")
	}
	if known := problem(err); known != nil {
		return known
	}
	return engine.Broken(ctx, leg, err)
}

// protocol reads what the server says of itself.
func (t *spoken) protocol(r *reader) (compiled, running []byte) {
	if r.byte() != messageProtocol {
		r.wrong("another message than that of the protocol")
		return nil, nil
	}
	if at := r.byte(); r.err == nil && (at < 4 || at > 6) {
		r.wrong("another version of the messages")
	}
	r.byte()
	var banner []byte
	for c := r.byte(); c != 0 && r.err == nil; c = r.byte() {
		if banner = append(banner, c); len(banner) > 256 {
			r.wrong("a name of the server without an end")
		}
	}
	t.banner = string(banner)
	r.raw(2) // the character set of the database
	r.byte()
	if elements := r.raw(2); len(elements) == 2 {
		r.raw(5 * int(binary.LittleEndian.Uint16(elements)))
	}
	sets := r.raw(r.fixed())
	if len(sets) > 6 {
		if at := 6 + int(sets[5]) + int(sets[6]) + 3; at+1 < len(sets) {
			t.national = int(sets[at])<<8 | int(sets[at+1])
		}
	}
	compiled = bytes.Clone(r.raw(int(r.byte())))
	running = bytes.Clone(r.raw(int(r.byte())))
	if r.err == nil && len(compiled) < canFields+1 {
		r.wrong("a server that says too little of what it can do")
		return nil, nil
	}
	has := func(list []byte, at int, bit byte) bool { return len(list) > at && list[at]&bit != 0 }
	if r.err == nil {
		t.fields = int64(min(fields, compiled[canFields]))
		t.end, t.sequence = has(compiled, canEnd, 1), has(compiled, canSequence, 1)
		t.mixes = compiled[canLogIn]&logInMixes != 0
		t.pieces = has(compiled, canPieces, piecesAreWide)
		t.longTexts = has(running, 6, 4)
		t.wide = has(compiled, canWideTypes, 0xff)
	}
	return compiled, running
}

// kinds gives the message that says which kinds of data are known, and in which form.
func (t *spoken) kinds(theirs, theirsNow []byte) []byte {
	compiled, running := ours()
	if !t.wide {
		compiled[canWideTypes] = 0
	}
	if theirs[canFields] < 7 {
		compiled[36] = 0
	}
	if len(theirs) <= canPieces || theirs[canPieces]&piecesHaveZones == 0 {
		compiled[canPieces], compiled[1], t.pieces = 0, 0, false
	}
	if len(theirsNow) < 2 || theirsNow[1]&1 == 0 {
		running[1] = 0
	}
	if t.longTexts {
		running[6] |= 4
	}
	if len(theirsNow) > 6 {
		running[6] |= theirsNow[6] & 2
	}
	t.zones = running[1]&1 != 0
	w := &writer{}
	w.bytes(messageTypes)
	for range 2 {
		w.data = binary.LittleEndian.AppendUint16(w.data, charset)
	}
	w.bytes(3, byte(len(compiled)))
	w.bytes(compiled...)
	w.bytes(byte(len(running)))
	w.bytes(running...)
	if t.zones {
		w.bytes(0x80, 0, 0, 0, 60, 60, 60, 0x80, 0, 0, 0) // no offset: the zone of this machine is its own affair
		if t.numbered = compiled[canPieces]&piecesHaveZones != 0; t.numbered {
			w.bytes(0, 0, 0, 0x20)
		}
	}
	w.data = binary.LittleEndian.AppendUint16(w.data, uint16(t.national))
	put := func(n uint16) {
		if t.wide {
			w.data = binary.BigEndian.AppendUint16(w.data, n)
		} else {
			w.bytes(byte(n))
		}
	}
	for _, each := range ways {
		put(each.kind)
		put(each.as)
		put(each.form)
		put(0)
	}
	for i, list := range types {
		if i == 1 && theirs[canFields] < 7 || i == 2 && theirs[canFields] < 8 {
			break
		}
		for _, each := range list {
			for kind := each[0]; kind <= each[1] && (t.wide || kind < 256); kind++ {
				put(kind)
				put(kind)
				put(1)
				put(0)
			}
		}
	}
	put(0)
	return w.data
}

// agreed reads what the server takes of it: a time zone, its version, and a list in the form of
// ours.
func (t *spoken) agreed(r *reader) {
	if r.byte() != messageTypes {
		r.wrong("another message than that of the kinds of data")
		return
	}
	if t.zones {
		r.raw(11)
		if t.numbered {
			r.raw(4)
		}
	}
	one := func() int {
		if t.wide {
			return r.fixed()
		}
		return int(r.byte())
	}
	for range mostList {
		if one() == 0 || r.err != nil {
			return
		}
		if one() != 0 {
			one()
			one()
		}
	}
	r.wrong("a list of kinds of data without an end")
}
