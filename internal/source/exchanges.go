package source

import (
	"bytes"
	"errors"
	"fmt"
	"io/fs"
	"strings"
	"time"

	"github.com/goccy/go-yaml"

	"soba.invalid/soba/internal/core/market"
	"soba.invalid/soba/internal/core/period"
)

// ExchangesFile is the file among descriptions that holds exchanges.
const ExchangesFile = "exchanges.yaml"

// ReadExchanges reads the exchanges of a folder with their calendars. It is strict:
// an unknown key, a time or a date that is none, or a zone that this machine does
// not know is an error with its place in the file. A folder without exchanges has
// none.
func ReadExchanges(files fs.FS) (market.Exchanges, error) {
	var described struct {
		Exchanges []struct {
			Code      string   `yaml:"code"`
			Name      string   `yaml:"name"`
			Country   string   `yaml:"country"`
			Currency  string   `yaml:"currency"`
			MinorUnit bool     `yaml:"minor_unit"`
			Zone      string   `yaml:"zone"`
			PreOpen   string   `yaml:"pre_open"`
			Open      string   `yaml:"open"`
			Close     string   `yaml:"close"`
			Weekend   []string `yaml:"weekend"`
			Calendar  string   `yaml:"calendar"`
			Index     string   `yaml:"index"`
		} `yaml:"exchanges"`
	}
	exchanges := market.Exchanges{}
	file, err := fs.ReadFile(files, ExchangesFile)
	if errors.Is(err, fs.ErrNotExist) {
		return exchanges, nil
	}
	if err != nil {
		return nil, err
	}
	if err := yaml.NewDecoder(bytes.NewReader(file), yaml.Strict()).Decode(&described); err != nil {
		return nil, fmt.Errorf("exchange file: %w", err)
	}
	for _, d := range described.Exchanges {
		bad := func(what string, err error) error { return fmt.Errorf("exchange file: %s: %s: %w", d.Code, what, err) }
		e := &market.Exchange{
			Code: d.Code, Name: d.Name, Country: d.Country, Currency: d.Currency, Minor: d.MinorUnit,
			Holidays: map[period.Date]string{}, HalfDays: map[period.Date]market.Clock{},
		}
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
		if e.Weekend, err = parseWeekend(d.Weekend); err != nil {
			return nil, bad("weekend", err)
		}
		if d.Index != "" {
			if e.Index, err = market.ParseSymbol(d.Index); err != nil {
				return nil, bad("index", err)
			}
		}
		if d.Calendar != "" {
			file, err := files.Open(d.Calendar)
			if err != nil {
				return nil, bad("calendar", err)
			}
			err = readCalendar(file, e)
			file.Close() //nolint:errcheck // it was only read
			if err != nil {
				return nil, bad("calendar "+d.Calendar, err)
			}
		}
		exchanges[d.Code] = e
	}
	return exchanges, nil
}

// parseWeekend reads the names of weekdays; none mean Saturday and Sunday.
func parseWeekend(names []string) (map[time.Weekday]bool, error) {
	weekend := map[time.Weekday]bool{}
	for _, name := range names {
		for d := time.Sunday; ; d++ {
			if d > time.Saturday {
				return nil, fmt.Errorf("%q is no day of the week", name)
			}
			if strings.EqualFold(name, d.String()) {
				weekend[d] = true
				break
			}
		}
	}
	if names == nil {
		weekend[time.Saturday], weekend[time.Sunday] = true, true
	}
	return weekend, nil
}

func parseClock(text string) (market.Clock, error) {
	t, err := time.Parse("15:04", text)
	if err != nil {
		return 0, fmt.Errorf("%q is not a time of day: write it as 08:30", text)
	}
	return market.Clock(t.Hour()*60 + t.Minute()), nil
}
