package source

import (
	"bytes"
	"fmt"
	"time"

	"github.com/goccy/go-yaml"

	"soba.invalid/soba/internal/core/market"
	"soba.invalid/soba/internal/core/period"
)

// ReadExchanges reads an exchange file. It is strict: an unknown key, a time or
// a date that is none, or a zone that this machine does not know is an error
// with its place in the file.
func ReadExchanges(file []byte) (market.Exchanges, error) {
	var described struct {
		Exchanges []struct {
			Code      string            `yaml:"code"`
			Name      string            `yaml:"name"`
			Country   string            `yaml:"country"`
			Currency  string            `yaml:"currency"`
			MinorUnit bool              `yaml:"minor_unit"`
			Zone      string            `yaml:"zone"`
			PreOpen   string            `yaml:"pre_open"`
			Open      string            `yaml:"open"`
			Close     string            `yaml:"close"`
			Holidays  map[string]string `yaml:"holidays"`
			HalfDays  map[string]string `yaml:"half_days"`
		} `yaml:"exchanges"`
	}
	if err := yaml.NewDecoder(bytes.NewReader(file), yaml.Strict()).Decode(&described); err != nil {
		return nil, fmt.Errorf("exchange file: %w", err)
	}
	exchanges := market.Exchanges{}
	for _, d := range described.Exchanges {
		bad := func(what string, err error) error { return fmt.Errorf("exchange file: %s: %s: %w", d.Code, what, err) }
		e := &market.Exchange{
			Code: d.Code, Name: d.Name, Country: d.Country, Currency: d.Currency, Minor: d.MinorUnit,
			Weekend:  map[time.Weekday]bool{time.Saturday: true, time.Sunday: true},
			Holidays: map[period.Date]string{}, HalfDays: map[period.Date]market.Clock{},
		}
		var err error
		if e.Zone, err = time.LoadLocation(d.Zone); err != nil {
			return nil, bad("zone", err)
		}
		for _, c := range []struct {
			key, text string
			into      *market.Clock
		}{{"pre_open", d.PreOpen, &e.PreOpens}, {"open", d.Open, &e.Opens}, {"close", d.Close, &e.Closes}} {
			if *c.into, err = parseClock(c.text); err != nil {
				return nil, bad(c.key, err)
			}
		}
		if e.PreOpens > e.Opens || e.Opens >= e.Closes {
			return nil, bad("times", fmt.Errorf("pre_open, open and close must follow each other"))
		}
		for text, name := range d.Holidays {
			day, err := period.ParseDate(text)
			if err != nil {
				return nil, bad("holidays", err)
			}
			e.Holidays[day] = name
		}
		for text, closes := range d.HalfDays {
			day, err := period.ParseDate(text)
			if err != nil {
				return nil, bad("half_days", err)
			}
			if e.HalfDays[day], err = parseClock(closes); err != nil {
				return nil, bad("half_days", err)
			}
		}
		exchanges[d.Code] = e
	}
	return exchanges, nil
}

func parseClock(text string) (market.Clock, error) {
	t, err := time.Parse("15:04", text)
	if err != nil {
		return 0, fmt.Errorf("%q is not a time of day: write it as 08:30", text)
	}
	return market.Clock(t.Hour()*60 + t.Minute()), nil
}
