package draw

import (
	"errors"
	"image/png"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"gonum.org/v1/plot"

	"soba.invalid/soba/internal/wire"
)

func numbers(all ...float64) (out []*float64) {
	for _, x := range all {
		out = append(out, &x)
	}
	return out
}

func series() *wire.PriceSeries {
	return &wire.PriceSeries{
		Listing: wire.Listing{Symbol: "AAA.XTST", Name: "Anchor Works", Currency: "EUR"}, Source: "gannet",
		Bars:      wire.PriceBars{Date: []string{"2026-03-02", "2026-03-03", "2026-03-04", "2026-03-05"}, Close: numbers(4, 5, 3, 6), Volume: numbers(10, 2.5e6, 0, 7)},
		Dividends: []wire.Dividend{{Ex: "2026-03-04"}, {Ex: "2027-01-01"}}, Splits: []wire.PriceSplit{{Date: "2026-03-03", Ratio: 2}},
	}
}

// written is a figure as SVG.
func written(t *testing.T, p *plot.Plot, err error) string {
	t.Helper()
	path := filepath.Join(t.TempDir(), "figure.svg")
	if err == nil {
		err = Save(p, path)
	}
	if err != nil {
		t.Fatal(err)
	}
	text, err := os.ReadFile(path)
	if err != nil {
		t.Fatal(err)
	}
	return string(text)
}

func TestAFigureSaysWhatItShows(t *testing.T) {
	p, err := Prices(series(), "full")
	svg := written(t, p, err)
	for _, want := range []string{"Anchor Works (AAA.XTST): close, EUR, in today", "dividends reinvested", "from gannet, 2026-03-02 to 2026-03-05", "volume, up to 2.50 m", ">ex-date<", ">split<", ">EUR<"} {
		if !strings.Contains(svg, want) {
			t.Errorf("the prices do not say %q", want)
		}
	}
	plain := series()
	plain.Dividends, plain.Splits, plain.Bars.Volume = nil, nil, numbers(0, 0, 0, 0)
	p, err = Prices(plain, "none")
	if svg := written(t, p, err); strings.Contains(svg, "ex-date") || strings.Contains(svg, "split") || strings.Contains(svg, "volume") || !strings.Contains(svg, "as traded") {
		t.Error("a legend of what is not there")
	}
	d := &wire.Dividends{
		Listing: plain.Listing, Source: "gannet", History: []wire.Dividend{{Ex: "2026-02-01"}},
		Years: []wire.DividendYear{{Year: 2026, Regular: 1, Partial: true}, {Year: 2025, Regular: 2, Special: 3}},
	}
	p, err = Dividends(d)
	if svg := written(t, p, err); !strings.Contains(svg, ">2025<") || !strings.Contains(svg, "2026 so far") || !strings.Contains(svg, ">special<") || strings.Contains(svg, "return of capital") {
		t.Error("the years or the kinds are wrong")
	}
	x := &wire.Income{Watchlist: "mine", From: "2026-03-07", To: "2027-03-06", Total: []wire.IncomeSum{{Currency: "GBP", Amount: 3, Expected: 2}}, Months: []wire.IncomeMonth{
		{Month: "2026-03", Sums: []wire.IncomeSum{{Currency: "GBP", Amount: 3, Expected: 2}}}, {Month: "2026-04"},
	}}
	p, err = Income(x)
	if svg := written(t, p, err); !strings.Contains(svg, "Income of mine by month of payment, GBP") || !strings.Contains(svg, ">2026-04<") || !strings.Contains(svg, ">expected<") {
		t.Error("the months or the parts are wrong")
	}
}

func TestWhatCannotBeDrawn(t *testing.T) {
	empty := series()
	empty.Bars = wire.PriceBars{}
	for name, draw := range map[string]func() (*plot.Plot, error){
		"prices":    func() (*plot.Plot, error) { return Prices(empty, "splits") },
		"dividends": func() (*plot.Plot, error) { return Dividends(&wire.Dividends{}) },
		"income":    func() (*plot.Plot, error) { return Income(&wire.Income{}) },
	} {
		if _, err := draw(); !errors.Is(err, ErrNothing) {
			t.Errorf("%s of nothing: %v", name, err)
		}
	}
	if _, err := Income(&wire.Income{Total: []wire.IncomeSum{{Currency: "EUR"}, {Currency: "GBP"}}}); err == nil || !strings.Contains(err.Error(), "--in") {
		t.Errorf("two currencies: %v", err)
	}
	p, err := Prices(series(), "splits")
	if err != nil {
		t.Fatal(err)
	}
	if err := Save(p, filepath.Join(t.TempDir(), "figure.gif")); err == nil || !strings.Contains(err.Error(), ".svg") {
		t.Errorf("a gif: %v", err)
	}
}

func TestAPNGIsAPicture(t *testing.T) {
	p, err := Prices(series(), "splits")
	if err != nil {
		t.Fatal(err)
	}
	path := filepath.Join(t.TempDir(), "figure.PNG")
	if err := Save(p, path); err != nil {
		t.Fatal(err)
	}
	f, err := os.Open(path)
	if err != nil {
		t.Fatal(err)
	}
	defer f.Close()
	picture, err := png.Decode(f)
	if err != nil || picture.Bounds().Dx() != 960 {
		t.Fatalf("%v, %v", picture, err)
	}
	colours := map[[3]uint32]int{}
	for x := range picture.Bounds().Dx() {
		for y := range picture.Bounds().Dy() {
			r, g, b, _ := picture.At(x, y).RGBA()
			colours[[3]uint32{r >> 8, g >> 8, b >> 8}]++
		}
	}
	if colours[[3]uint32{0xfb, 0xfa, 0xf6}] < 400_000 || colours[[3]uint32{0x0b, 0x5a, 0x66}] < 100 || colours[[3]uint32{0x7c, 0x52, 0x00}] < 10 {
		t.Errorf("paper, line and ex-date are not there: %d colours", len(colours))
	}
}
