package market

import "time"

// NextVisit is when someone who follows the sessions of exchanges looks next: so
// often while any of them is open, and once after each has closed, when its day's
// data is due. It is zero where the calendars end.
func NextVisit(exchanges []*Exchange, now time.Time, every, afterClose time.Duration) (next time.Time) {
	sooner := func(t time.Time) {
		if t.After(now) && (next.IsZero() || t.Before(next)) {
			next = t
		}
	}
	for _, e := range exchanges {
		if s, open := e.Current(now); open {
			sooner(now.Add(every))
			sooner(s.Close.Add(afterClose))
			continue
		}
		if last := e.LastClosed(now, 0); last.Date != 0 {
			sooner(last.Close.Add(afterClose))
		}
		if s := e.Next(now); s.Date != 0 {
			sooner(s.Open.Add(every))
		}
	}
	return next
}
