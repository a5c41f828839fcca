package httpapi

import (
	"context"
	"fmt"
	"net/http"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"soba.invalid/soba/internal/core/market"
	"soba.invalid/soba/internal/core/period"
	"soba.invalid/soba/internal/wire"
)

func (s *Server) addExchanges() {
	type exchangesInput struct {
		From string `query:"from" doc:"First day of the calendars: a date, or one counted back, as -1m" default:"today" maxLength:"20"`
		Days int    `query:"days" doc:"How many days of the calendars" default:"366" minimum:"0" maximum:"4000"`
	}
	huma.Register(s.api, operation(http.MethodGet, "/api/v1/exchanges", "list-exchanges", "Exchanges: hours, phases, and the days on which they do not trade", "listings"),
		func(_ context.Context, in *exchangesInput) (*body[wire.Exchanges], error) {
			now := s.Now()
			from, err := period.Parse(in.From)
			if err != nil || !from.IsDate() {
				return nil, problem(http.StatusUnprocessableEntity, problemBadRequest, "from", "%q is not a day: write it as 2026-01-31, -1m or today", in.From)
			}
			out := wire.Exchanges{Exchanges: []wire.Exchange{}}
			exchanges := s.Book.Exchanges()
			for _, code := range exchanges.Codes() {
				e := exchanges[code]
				first := from.Date(e.Today(now))
				out.Exchanges = append(out.Exchanges, exchange(e, now, first, first.AddDays(in.Days)))
			}
			return answer(out), nil
		})
}

// phase is where an exchange stands in its day.
func phase(e *market.Exchange, now time.Time) wire.Phase {
	p := wire.Phase{Exchange: e.Code, Name: e.Name, Phase: string(e.PhaseAt(now))}
	if session, open := e.Current(now); open {
		p.Next = moment(session.Close)
	} else {
		p.Next = moment(e.Next(now).Open)
	}
	return p
}

// exchange is an exchange with its calendar from one day to before another.
func exchange(e *market.Exchange, now time.Time, from, to period.Date) wire.Exchange {
	out := wire.Exchange{
		Phase: phase(e, now), Country: e.Country, Currency: e.Currency, Zone: e.Zone.String(), Index: e.Index.String(),
		PreOpens: onTheClock(e.PreOpens), Opens: onTheClock(e.Opens), Closes: onTheClock(e.Closes), Weekend: []string{}, Days: []wire.CalendarDay{},
	}
	for d := range 7 {
		day := time.Weekday((d + 1) % 7) // weeks begin on Monday
		if e.Weekend[day] {
			out.Weekend = append(out.Weekend, day.String())
		}
		if e.Learned[day] {
			out.Learned = append(out.Learned, day.String())
		}
	}
	for day := from; day < to; day++ {
		name, holiday := e.Holidays[day]
		closes, early := e.HalfDays[day]
		switch {
		case e.Weekend[day.Weekday()]:
		case holiday:
			out.Days = append(out.Days, wire.CalendarDay{Date: day.String(), Name: name})
		case early:
			out.Days = append(out.Days, wire.CalendarDay{Date: day.String(), Closes: onTheClock(closes)})
		}
	}
	return out
}

func onTheClock(c market.Clock) string { return fmt.Sprintf("%02d:%02d", c/60, c%60) }
