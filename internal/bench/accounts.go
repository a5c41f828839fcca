package main

import (
	"bytes"
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"math"
	"net"
	"net/http"
	"slices"
	"strings"
	"time"

	"github.com/gofiber/fiber/v3"
	"github.com/jackc/pgx/v5"

	"soba.invalid/soba/internal/core/catalogue"
	"soba.invalid/soba/internal/core/cell"
	"soba.invalid/soba/internal/core/entry"
	"soba.invalid/soba/internal/core/period"
	"soba.invalid/soba/internal/core/plan"
	"soba.invalid/soba/internal/core/statement"
	"soba.invalid/soba/internal/core/table"
	"soba.invalid/soba/internal/source"
	"soba.invalid/soba/internal/source/xbrl"
	"soba.invalid/soba/internal/standin"
	"soba.invalid/soba/internal/store"
)

// reports are seven years and a quarter of accounts, whole years and quarters, of which
// the newest twelve months are put together.
func reports(i int) (out []statement.Report) {
	for year := 2019; year <= 2026; year++ {
		for q := 1; q <= 4 && (year < 2026 || q == 1); q++ {
			out = append(out, reportOf(year, fmt.Sprintf("Q%d", q), period.MakeDate(year, 1, 1).AddMonths(3*q)-1, 1+0.03*float64(year-2019)+0.01*float64(q)+float64(i%7)/100))
		}
		if year < 2026 {
			out = append(out, reportOf(year, "FY", period.MakeDate(year, 12, 31), 4*(1+0.03*float64(year-2019)+0.025+float64(i%7)/100)))
		}
	}
	return out
}

func reportOf(year int, part string, end period.Date, scale float64) statement.Report {
	r := statement.Report{End: end, Filed: end + 50, Year: year, Part: statement.Part(part), Currency: "EUR", Values: make([]float64, len(statement.Lines))}
	for k := range r.Values {
		r.Values[k] = 1000 * float64(k+3) * scale
		if l := &statement.Lines[k]; l.Nature == statement.Average || l.Nature == statement.Stock {
			r.Values[k] = 5000 * float64(k+3)
		}
	}
	r.Values[lines.assets] *= 10 // of which liabilities are a part
	return r
}

// accountsByHand are the fields that readByHand computes, in its order.
var accountsByHand = []string{
	"income.revenue", "income.net_income", "income.eps_diluted", "balance.total_debt", "cash.free", "margin.gross", "margin.operating", "margin.net", "margin.ebitda", "margin.fcf",
	"return.assets", "return.equity", "return.invested", "return.capital_employed", "strength.current_ratio", "strength.quick_ratio", "strength.debt_to_equity", "efficiency.asset_turnover",
	"growth.revenue", "growth.eps", "value.market_cap", "value.enterprise", "value.pe", "value.ps", "value.pb", "value.ev_ebitda", "value.fcf_yield",
}

// readByHand computes the same ratios as the catalogue's, whose reports stand where they do.
func readByHand(r []statement.Report, price float64, o []float64) {
	n := len(r) - 1 // Q1 2026; n-1 is FY2025, n-5 Q1 2025, n-6 FY2024, n-10 Q1 2024
	now, whole, before, wholeBefore, quarterBefore := r[n].Values, r[n-1].Values, r[n-5].Values, r[n-6].Values, r[n-10].Values
	flow := func(line int) float64 { return whole[line] + now[line] - before[line] }
	flowBefore := func(line int) float64 { return wholeBefore[line] + before[line] - quarterBefore[line] }
	mean := func(line int) float64 { return (12*whole[line] + 3*now[line] - 3*before[line]) / 12 }
	meanBefore := func(line int) float64 { return (12*wholeBefore[line] + 3*before[line] - 3*quarterBefore[line]) / 12 }
	revenue, net, common, operating := flow(lines.revenue), flow(lines.net), flow(lines.common), flow(lines.operating)
	eps, epsBefore := common/mean(lines.diluted), flowBefore(lines.common)/meanBefore(lines.diluted)
	ebitda := operating + flow(lines.depreciation)
	debt, free := now[lines.shortDebt]+now[lines.longDebt], flow(lines.cashOperating)-flow(lines.capex)
	debtBefore := before[lines.shortDebt] + before[lines.longDebt]
	equity, assets, cash := now[lines.equity], now[lines.assets], now[lines.cash]
	cap := price * now[lines.shares]
	enterprise := cap + debt + now[lines.minority] - cash - now[lines.investments]
	o[0], o[1], o[2], o[3], o[4] = revenue, net, eps, debt, free
	o[5], o[6], o[7], o[8], o[9] = flow(lines.gross)/revenue, operating/revenue, net/revenue, ebitda/revenue, free/revenue
	o[10], o[11] = net/((assets+before[lines.assets])/2), common/((equity+before[lines.equity])/2)
	o[12] = operating * (1 - flow(lines.tax)/flow(lines.pretax)) / ((equity + debt - cash + before[lines.equity] + debtBefore - before[lines.cash]) / 2)
	o[13] = operating / (assets - now[lines.currentLiabilities])
	o[14], o[15], o[16] = now[lines.currentAssets]/now[lines.currentLiabilities], (now[lines.currentAssets]-now[lines.inventory])/now[lines.currentLiabilities], debt/equity
	o[17] = revenue / ((assets + before[lines.assets]) / 2)
	o[18], o[19] = revenue/flowBefore(lines.revenue)-1, eps/epsBefore-1
	o[20], o[21], o[22], o[23], o[24], o[25], o[26] = cap, enterprise, price/eps, cap/revenue, cap/equity, enterprise/ebitda, free/cap
}

var lines = struct {
	revenue, net, common, operating, depreciation, diluted, gross, tax, pretax, shortDebt, longDebt, cashOperating, capex, equity, assets, cash, shares, minority, investments, currentAssets, currentLiabilities, inventory int
}{
	statement.At("income.revenue"), statement.At("income.net_income"), statement.At("income.net_income_common"), statement.At("income.operating_income"), statement.At("income.depreciation"), statement.At("income.shares_diluted"),
	statement.At("income.gross_profit"), statement.At("income.tax"), statement.At("income.pretax_income"), statement.At("balance.short_debt"), statement.At("balance.long_debt"), statement.At("cash.operating"), statement.At("cash.capital_expenditure"),
	statement.At("balance.equity"), statement.At("balance.total_assets"), statement.At("balance.cash"), statement.At("balance.shares_outstanding"), statement.At("balance.minority"), statement.At("balance.short_investments"),
	statement.At("balance.current_assets"), statement.At("balance.current_liabilities"), statement.At("balance.inventory"),
}

// alike checks that what is measured against computes the same, but for a column that is
// of all rows.
func alike(t *table.Table, out []float64, width, but int) error {
	for i := range t.Rows {
		for k := range width {
			c, want := &t.Rows[i].Cells[k], out[i*width+k]
			if k == but {
				continue
			}
			if c.Absent() || math.Abs(c.Value.Num-want) > 1e-9*math.Max(1, math.Abs(want)) {
				return fmt.Errorf("%s of row %d is %+v, by hand %v", t.Program.Columns[k].Ref, i, c, want)
			}
		}
	}
	return nil
}

// accounts measures how accounts are stored and filings read.
func (b *bench) accounts() error {
	if err := b.statements(); err != nil {
		return err
	}
	return b.filings()
}

// statements compares storing twenty years of accounts with PostgreSQL's COPY of the same
// rows into the same table.
func (b *bench) statements() error {
	const names, years, batch = 500, 20, 25
	now := time.Date(2026, 3, 7, 12, 0, 0, 0, time.UTC)
	s, known, err := b.emptyStore("accounts", names, now)
	if err != nil {
		return err
	}
	defer s.Close()
	info := catalogue.Info(catalogue.Statements)
	var batches []store.Result
	for first := 0; first < names; first += batch {
		r := store.Result{Request: plan.Request{Source: "whimbrel", Call: "statements"}, Final: true, Answer: &source.Answer{Pages: []source.Page{{UnitsLeft: -1}}}}
		for _, l := range known[first : first+batch] {
			r.Request.Needs = append(r.Request.Needs, plan.Need{Dataset: catalogue.Statements, Listing: l.ID, Symbol: l.Symbol})
			e := source.Entries{Origin: source.Origin{Symbol: l.Symbol, Dataset: catalogue.Statements}}
			for y := range years {
				x := reportOf(2006+y, "FY", period.MakeDate(2006+y, 12, 31), 1+float64(y)/10)
				values := make([]cell.Value, len(info.Columns))
				for name, text := range map[string]string{"end": x.End.String(), "part": "FY", "basis": "consolidated", "filed": x.Filed.String(), "currency": "EUR", "standard": "IFRS"} {
					values[info.Column(name)] = cell.OfText(text)
				}
				values[info.Column("year")] = cell.Of(float64(x.Year))
				for k := range statement.Lines {
					values[info.Column(statement.Lines[k].ID)] = cell.Of(x.Values[k])
				}
				e.Entries = append(e.Entries, entry.Entry{Day: x.End, Values: values, Place: "line 1"})
			}
			r.Answer.Entries = append(r.Answer.Entries, e)
		}
		batches = append(batches, r)
	}
	save := func() error {
		for _, r := range batches {
			if err := s.Save(b.ctx, r, now); err != nil {
				return err
			}
		}
		return nil
	}
	if err := save(); err != nil {
		return err
	}
	stored, err := b.storedEntries(s, batch*years)
	if err != nil {
		return err
	}
	ours, theirs, err := b.inTurns(s, []string{"truncate entry, attempt", "checkpoint"}, save, func() error { return b.copyEntries(s, stored) })
	if err != nil {
		return err
	}
	rows := float64(names * years)
	b.add(line{"Accounts", fmt.Sprintf("store %d issuers × %d years × %d lines", names, years, len(statement.Lines)), fmt.Sprintf("%.0f reports/s", rows/ours.Seconds()), fmt.Sprintf("COPY of the same rows into the same table, %.0f", rows/theirs.Seconds()), fmt.Sprintf("%.2f", theirs.Seconds()/ours.Seconds()), "≥ 0.6"})
	return nil
}

// copyEntries sends rows to the table that they were read from.
func (b *bench) copyEntries(s *store.Store, batches [][][]any) error {
	for _, rows := range batches {
		if _, err := s.Pool.CopyFrom(b.ctx, pgx.Identifier{"entry"}, entryColumns, pgx.CopyFromRows(rows)); err != nil {
			return err
		}
	}
	return nil
}

var entryColumns = []string{"listing_id", "dataset", "source", "key", "day", "fields", "place", "request_id", "known_from"}

// storedEntries are the rows of the table, in batches.
func (b *bench) storedEntries(s *store.Store, batch int) ([][][]any, error) {
	rows, err := s.Pool.Query(b.ctx, "select "+strings.Replace(strings.Join(entryColumns, ", "), "fields", "fields::text", 1)+" from entry order by listing_id, key")
	if err != nil {
		return nil, err
	}
	all, err := pgx.CollectRows(rows, func(row pgx.CollectableRow) ([]any, error) { return row.Values() })
	var out [][][]any
	for part := range slices.Chunk(all, batch) {
		out = append(out, part)
	}
	return out, err
}

// filings compares reading an instance document with the bare XML decoder on the same.
func (b *bench) filings() error {
	now := func() time.Time { return time.Date(2026, 3, 7, 12, 0, 0, 0, time.UTC) }
	m := standin.New(b.exchanges, 1, 60, now)
	text, err := m.InstanceOf("KELP.XCVH")
	if err != nil {
		return err
	}
	const times = 300
	read := best(5, func() {
		for range times {
			if _, e := xbrl.Read(bytes.NewReader(text), xbrl.Limits{Facts: 1_000_000, Depth: 64}); e != nil {
				err = e
			}
		}
	})
	bare := best(5, func() {
		for range times {
			d := xml.NewDecoder(bytes.NewReader(text))
			for {
				if _, e := d.Token(); errors.Is(e, io.EOF) {
					break
				} else if e != nil {
					err = e
					break
				}
			}
		}
	})
	if err != nil {
		return err
	}
	mb := float64(len(text)*times) / 1e6
	b.add(line{"Accounts", fmt.Sprintf("read an XBRL instance document of %.0f kB", float64(len(text))/1e3), fmt.Sprintf("%.1f MB/s", mb/read.Seconds()), fmt.Sprintf("the XML decoder alone, %.1f MB/s", mb/bare.Seconds()), fmt.Sprintf("%.2f", bare.Seconds()/read.Seconds()), "≥ 0.5"})
	return nil
}

// page measures what the service takes for the accounts of an issuer, twenty years of all
// lines with their growth, beside what sending the same bytes takes.
func (b *bench) page(address string) error {
	path := address + "/api/v1/listings/KELP.XCVH/statements?count=20&growth=true"
	var size int
	get := func(path string) error {
		r, err := http.Get(path)
		if err != nil {
			return err
		}
		defer r.Body.Close()
		text, err := io.ReadAll(r.Body)
		if r.StatusCode != http.StatusOK {
			err = fmt.Errorf("%s: %s", r.Status, text)
		}
		size = len(text)
		return err
	}
	took, err := b.each(func() error { return get(path) })
	if err != nil {
		return err
	}
	content := strings.Repeat("x", size)
	plain, stop, err := fromMemory(content)
	if err != nil {
		return err
	}
	defer stop()
	sent, err := b.each(func() error { return get(plain) })
	if err != nil {
		return err
	}
	b.add(line{"Accounts", fmt.Sprintf("20 years of all lines of an issuer with their growth, %.0f kB, warm", float64(size)/1e3), fmt.Sprintf("%.2f ms, %.1f times the same bytes from memory", took.Seconds()*1e3, took.Seconds()/sent.Seconds()), fmt.Sprintf("5 ms besides these, %.2f ms", sent.Seconds()*1e3), fmt.Sprintf("%.2f", (took-sent).Seconds()/0.005), "≤ 1"})
	return nil
}

// fromMemory serves bytes from memory with Fiber.
func fromMemory(content string) (address string, stop func(), err error) {
	app := fiber.New(fiber.Config{})
	app.Get("/", func(c fiber.Ctx) error { return c.SendString(content) })
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return "", nil, err
	}
	go app.Listener(l, fiber.ListenConfig{DisableStartupMessage: true})        //nolint:errcheck // it ends with the run
	return "http://" + l.Addr().String() + "/", func() { app.Shutdown() }, nil //nolint:errcheck
}

// each is the time of one of many calls, the best of three rounds.
func (b *bench) each(f func() error) (time.Duration, error) {
	const calls = 200
	least := time.Duration(1<<63 - 1)
	for range 3 {
		began := time.Now()
		for range calls {
			if err := f(); err != nil {
				return 0, err
			}
		}
		least = min(least, time.Since(began)/calls)
	}
	return least, nil
}
