package flow

import "lucidorchard/core/service"

// Joined is what one emission of a Joiner says of a session: a record with its
// details. Of a session that goes on, later ones have no new connection.
type Joined struct {
	Record
	ReplyBytes   int64 // of Bytes, those from server to client
	ReplyPackets int64
	Flags        uint8 // TCP control bits from the client
	ReplyFlags   uint8
	HasFlags     bool
	Confidence   uint8 // that client and server are the right way round, in percent
	Reason       Reason
	Observers    [2]int32 // the first who saw it; -1 is none
	MoreSaw      int      // further observers
}

// Turn makes the client the server, because somebody said so.
func (j *Joined) Turn() {
	was := uint16(j.Point.Port())
	j.Client, j.Server = j.Server, j.Client
	j.Point, j.SourcePort = service.PointOf(j.Point.Proto(), uint32(j.SourcePort)), was
	j.ReplyBytes, j.ReplyPackets = j.Bytes-j.ReplyBytes, j.Packets-j.ReplyPackets
	j.Flags, j.ReplyFlags = j.ReplyFlags, j.Flags
	j.Confidence, j.Reason = 100, ByHand
}

// Stating makes records whose direction their source states into what a Joiner
// would send off.
func Stating(records []Record) []Joined {
	out := make([]Joined, len(records))
	for i, r := range records {
		out[i] = Joined{Record: r, Confidence: 100, Reason: Stated, Observers: [2]int32{-1, -1}}
	}
	return out
}

// JoinOptions bound a Joiner. The zero value takes the defaults.
type JoinOptions struct {
	// Hold is how long a session waits for its other direction; 0 is 10 s. One of which both directions
	// have ended, or that was dropped, waits for copies of other exporters only: a twentieth of it. So
	// does, the first time, one of which both directions were told and it is sure who is the client.
	Hold Micros
	// Linger is how long an unfinished one is remembered after it was last heard of; 0 is 35 min, longer
	// than any usual active time-out.
	Linger Micros
	After  Micros // the same of a finished one: late copies still join; 0 is 2 min
	Most   int    // sessions in memory; 0 is 1,000,000 (about 350 bytes each, with its place in the index). Over it, the oldest are sent off early
}

// Joiner puts observations together: the two directions of a session, its
// intervals, and what several exporters saw of it, which is counted once. Its
// clock is the arrival of what it is given, not the exporters'. It is not safe
// for concurrent use.
type Joiner struct {
	JoinOptions
	Sides *Sides

	index    map[sessionKey]int32
	pages    [][]session
	used     int32 // sessions of pages that were ever used
	free     []int32
	due      queue             // sessions with something to send off
	soon     queue             // those of them that have ended, or were dropped
	watched  queue             // sessions that are remembered
	more     map[int32][]extra // what further observers saw, by session
	Repeated int64             // observations that an exporter sent twice
	early    []Joined
	pending  int // sessions with something to send off
	opened   []Open
	scratch  Joined
	spare    sight
	Early    int64 // sessions sent off before their time, for want of room
}

// NewJoiner makes one without sessions.
func NewJoiner(o JoinOptions, sides *Sides) *Joiner {
	def := func(v *Micros, d Micros) {
		if *v == 0 {
			*v = d
		}
	}
	def(&o.Hold, 10e6)
	def(&o.Linger, 35*60e6)
	def(&o.After, 2*60e6)
	if o.Most == 0 {
		o.Most = 1_000_000
	}
	return &Joiner{JoinOptions: o, Sides: sides, index: map[sessionKey]int32{}, more: map[int32][]extra{}}
}

// Sessions returns how many are in memory.
func (j *Joiner) Sessions() int { return len(j.index) }

// Queued returns how many places there are in its queues, which are bounded too.
func (j *Joiner) Queued() int {
	n := 0
	for _, q := range []*queue{&j.due, &j.soon, &j.watched} {
		n += len(q.items) - q.head
	}
	return n
}

// Waiting returns how many records are not sent off yet: of sessions that have
// something to send off, and of those that were sent off early since the last
// Flush.
func (j *Joiner) Waiting() int { return j.pending + len(j.early) }

// Add takes an observation that arrived now. now does not go back.
func (j *Joiner) Add(o *Observation, now Micros) {
	k, sourceFirst, hint, because := keyOf(o)
	way, sign := 0, 1
	if !sourceFirst {
		way, sign = 1, -1
	}
	id, ok := j.index[k]
	if ok && j.another(j.at(id), o, way) {
		j.sendOffNow(id)
		j.forget(id)
		ok = false
	}
	if !ok {
		id = j.open(k, now)
	}
	s := j.at(id)
	d := &s.way[way]
	sight := j.sightOf(id, way, o.Observer)
	recent := likeness(o)
	if !o.Packet && !o.Numbered && sight.total.packets > 0 && sight.recent == recent {
		j.Repeated++
		return
	}
	sight.recent = recent
	if o.Total {
		sight.total = amount{max(sight.total.packets, o.Packets), max(sight.total.bytes, o.Bytes)}
	} else {
		sight.total.packets = Sum(sight.total.packets, o.Packets)
		sight.total.bytes = Sum(sight.total.bytes, o.Bytes)
	}
	if o.HasFlags {
		d.flags, d.hasFlags = d.flags|o.Flags, true
	}
	if d.first == 0 || o.Start < d.first {
		d.first = o.Start
	}
	if hint != 0 && abs(hint) >= abs(int(s.hint)) {
		s.hint, s.because = int8(sign*hint), because
	}
	s.sawSYN = s.sawSYN || o.HasFlags && o.Flags&SYN != 0
	s.finished = s.finished || o.HasFlags && o.Flags&RST != 0 || s.way[0].flags&s.way[1].flags&FIN != 0
	switch o.Outcome {
	case Carried:
		s.carried = true
	case Dropped:
		s.dropped = true
	}
	if !s.pending {
		s.pending, s.from, s.until = true, o.Start, o.End
		j.pending++
		j.push(&j.due, queued{now, id, s.generation})
	}
	s.from, s.until, s.last = min(s.from, o.Start), max(s.until, o.End), max(s.last, o.End)
	s.heard, s.blur = now, max(s.blur, o.Blur)
	if !s.soon && (s.finished || s.dropped || !s.opened && !o.Packet && j.plain(s)) {
		s.soon = true
		j.push(&j.soon, queued{now, id, s.generation})
	}
}

// plain reports whether what is known of a session will do: both directions were told, and nothing
// that may come makes it likely that the client is the server.
func (j *Joiner) plain(s *session) bool {
	if s.way[0].first == 0 || s.way[1].first == 0 {
		return false
	}
	_, confidence, _ := j.side(s)
	return confidence >= Sure
}

func abs(n int) int { return max(n, -n) }

// apart is by how much the clocks of exporters may differ.
const apart = Micros(30e6)

// another reports whether an observation on the ports of a session belongs to a
// later one. The first word of an exporter about a direction is taken for its
// copy, if it is no later than clocks may differ.
func (j *Joiner) another(s *session, o *Observation, way int) bool {
	if o.Start <= s.last {
		return false
	}
	told := false
	for i := range s.way[way].seen {
		told = told || s.way[way].seen[i].observer == o.Observer+1
	}
	if !told && !s.saturated && o.Start-s.last < apart {
		return false
	}
	if o.Proto != service.TCP {
		return o.Start-s.last > 5*60e6
	}
	if !o.HasFlags {
		return s.finished || o.Start-s.last > j.Linger
	}
	return s.finished && o.Flags&SYN != 0
}

func (j *Joiner) open(k sessionKey, now Micros) int32 {
	for len(j.index) >= j.Most {
		j.evict()
	}
	var id int32
	if n := len(j.free); n > 0 {
		id = j.free[n-1]
		j.free = j.free[:n-1]
	} else {
		id = j.room()
	}
	s := j.at(id)
	generation := s.generation + 1
	*s = session{sessionKey: k, generation: generation, live: true, because: ByGuess, heard: now}
	j.index[k] = id
	j.Sides.learn(portKey{k.a, k.pa, k.proto})
	j.Sides.learn(portKey{k.b, k.pb, k.proto})
	j.push(&j.watched, queued{now, id, generation})
	return id
}

// evict sends the session off that was remembered longest.
func (j *Joiner) evict() {
	for {
		x, ok := j.watched.peek()
		if !ok {
			return
		}
		j.watched.head++
		if s := j.at(x.session); s.live && s.generation == x.generation {
			if s.pending {
				j.Early++
			}
			j.sendOffNow(x.session)
			j.forget(x.session)
			return
		}
	}
}

func (j *Joiner) forget(id int32) {
	s := j.at(id)
	if s.saturated {
		delete(j.more, id)
	}
	delete(j.index, s.sessionKey)
	s.live = false
	j.free = append(j.free, id)
}

// sightOf returns what an observer has seen of a direction.
func (j *Joiner) sightOf(id int32, way int, observer int32) *sight {
	s := j.at(id)
	d := &s.way[way]
	for i := range d.seen {
		if x := &d.seen[i]; x.observer == observer+1 || x.observer == 0 {
			x.observer = observer + 1
			return x
		}
	}
	for i := range j.more[id] {
		if x := &j.more[id][i]; x.way == way && x.observer == observer+1 {
			return &x.sight
		}
	}
	if len(j.more) > j.Most/4 || len(j.more[id]) >= moreKept {
		j.spare = sight{observer: observer + 1}
		return &j.spare // no room to tell more apart: it is a copy, and counts for nothing
	}
	s.saturated = true
	j.more[id] = append(j.more[id], extra{way, sight{observer: observer + 1}})
	return &j.more[id][len(j.more[id])-1].sight
}

// moreKept is how many further observers of one session are told apart.
const moreKept = 16

// Flush sends off what has waited long enough at now, and forgets sessions that
// were not heard of for long. What emit is given holds until it returns.
func (j *Joiner) Flush(now Micros, emit func(*Joined)) {
	j.flush(&j.soon, now-j.Hold/20, emit)
	j.flush(&j.due, now-j.Hold, emit)
	for {
		x, ok := j.watched.peek()
		if !ok || x.at+j.After > now {
			break
		}
		j.watched.head++
		s := j.at(x.session)
		if !s.live || s.generation != x.generation {
			continue
		}
		remembered := j.Linger
		if s.finished {
			remembered = j.After
		}
		if s.heard+remembered > now || s.pending {
			j.push(&j.watched, queued{now, x.session, x.generation})
			continue
		}
		j.forget(x.session)
	}
	for i := range j.early {
		emit(&j.early[i])
	}
	j.early = j.early[:0]
}

// flush sends off what has waited in a queue since a time.
func (j *Joiner) flush(q *queue, since Micros, emit func(*Joined)) {
	for {
		x, ok := q.peek()
		if !ok || x.at > since {
			return
		}
		q.head++
		if s := j.at(x.session); s.live && s.generation == x.generation && s.pending {
			j.sendOff(x.session, emit)
		}
	}
}

// Close sends everything off; the sessions stay remembered.
func (j *Joiner) Close(now Micros, emit func(*Joined)) { j.Flush(now+j.Hold, emit) }
