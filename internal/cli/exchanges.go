package cli

import (
	"fmt"
	"net/url"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"soba.invalid/soba/internal/wire"
)

func (a *app) exchangesCommand() *cobra.Command {
	var p printing
	var from string
	c := &cobra.Command{
		Use: "exchanges [CODE]", Short: "Show when exchanges trade", Args: cobra.MaximumNArgs(1),
		Long: `Shows the exchanges with their hours and phases; with a code, the days of its
calendar on which it is closed or closes early. Times are on the exchange's wall
unless a zone is written beside them.
A weekday on which nothing was traded for half a year is learned as closed, and one
of the weekend that trades as open.`,
		Example: "  soba exchanges\n  soba exchanges XCVH\n  soba exchanges XNMK --from -1y --format csv --output closed.csv",
		RunE: func(cmd *cobra.Command, args []string) error {
			if err := p.check(); err != nil {
				return err
			}
			q := url.Values{}
			if from != "" {
				q.Set("from", from)
			}
			found, err := get[wire.Exchanges](cmd.Context(), a.client, "/api/v1/exchanges", q)
			if err != nil {
				return err
			}
			if len(args) == 0 {
				return a.printExchanges(&p, &found)
			}
			i := slices.IndexFunc(found.Exchanges, func(e wire.Exchange) bool { return strings.EqualFold(e.Exchange, args[0]) })
			if i < 0 {
				return usageError{fmt.Errorf("there is no exchange %q: there are %s", args[0], strings.Join(codes(&found), ", "))}
			}
			return a.printCalendar(&p, &found.Exchanges[i])
		},
	}
	p.add(c)
	c.Flags().StringVar(&from, "from", "", "first day of the calendar, a year of which is shown: a date, or counted back as -1y (default today)")
	return c
}

func codes(all *wire.Exchanges) (codes []string) {
	for _, e := range all.Exchanges {
		codes = append(codes, e.Exchange)
	}
	return codes
}

func (a *app) printExchanges(p *printing, all *wire.Exchanges) error {
	header := []string{"code", "name", "currency", "phase", "next", "session", "zone", "closed on", "next closed", "index"}
	if p.format == "table" {
		header = []string{"", "Name", "", "Phase", "", "Session", "Zone", "Closed on", "Closed next", "Index"}
	}
	var rows [][]string
	for _, e := range all.Exchanges {
		next := stamp(e.Next)
		if p.format == "table" {
			next = map[bool]string{true: "closes ", false: "opens "}[e.Phase.Phase == "open"] + next
		}
		closed := ""
		for _, d := range e.Days {
			if d.Closes == "" {
				closed = d.Date + " " + d.Name
				break
			}
		}
		rows = append(rows, []string{e.Exchange, e.Name, e.Currency, strings.ReplaceAll(e.Phase.Phase, "_", " "), next, e.Opens + "–" + e.Closes, e.Zone, weekend(&e), closed, e.Index})
	}
	return a.print(p, header, rows, all)
}

// weekend names the days of the week without trading, and what was learned of them.
func weekend(e *wire.Exchange) string {
	var days []string
	for _, d := range e.Weekend {
		days = append(days, d[:3])
	}
	text := strings.Join(days, " ")
	if len(e.Learned) > 0 {
		text += " (learned: " + strings.Join(e.Learned, ", ") + ")"
	}
	return text
}

func (a *app) printCalendar(p *printing, e *wire.Exchange) error {
	var rows [][]string
	for _, d := range e.Days {
		day, _ := time.Parse(time.DateOnly, d.Date)
		what := d.Name
		if d.Closes != "" {
			what = "closes at " + d.Closes
		}
		rows = append(rows, []string{d.Date, day.Weekday().String()[:3], what})
	}
	header := []string{"date", "weekday", "closed"}
	if p.format == "table" {
		header = []string{"Date", "", "Closed"}
	}
	if err := a.print(p, header, rows, e); err != nil || p.format != "table" || p.output != "" {
		return err
	}
	fmt.Fprintf(a.out, "\n%s (%s): %s, orders from %s, trades %s–%s %s, closed on %s; now %s, next %s\n",
		e.Exchange, e.Name, e.Currency, e.PreOpens, e.Opens, e.Closes, e.Zone, weekend(e), strings.ReplaceAll(e.Phase.Phase, "_", " "), stamp(e.Next))
	return nil
}
