package point

import "time"

// recent is what was counted at the last few times.
type recent []sample

type sample struct {
	at                        time.Time
	permit, reject, uncovered int64
	reported                  int64
}

// add notes what is counted now, and how many conversations were reported one by one; it
// gives what is new since a minute.
func (r *recent) add(now time.Time, lines []Line, reported int64) Lately {
	s := sample{at: now, reported: reported}
	for _, l := range lines {
		switch l.Verdict {
		case "permit":
			s.permit += l.Packets
		case "reject":
			s.reject += l.Packets
		default:
			s.uncovered += l.Packets
		}
	}
	all := append(*r, s)
	for len(all) > 2 && now.Sub(all[1].at) >= time.Minute {
		all = all[1:]
	}
	*r = all
	first := all[0]
	if s.permit < first.permit || s.reject < first.reject || s.uncovered < first.uncovered {
		*r = recent{s} // counts of before were lost
		return Lately{}
	}
	return Lately{now.Sub(first.at).Seconds(), s.permit - first.permit, s.reject - first.reject,
		s.uncovered - first.uncovered, s.reported - first.reported}
}
