// Package draw makes figures of what the service has answered: prices, dividends,
// income. Each says what it shows, in which unit, from whom and of which day.
package draw

import (
	"errors"
	"fmt"
	"image/color"
	"math"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"gonum.org/v1/plot"
	"gonum.org/v1/plot/font"
	"gonum.org/v1/plot/plotter"
	"gonum.org/v1/plot/text"
	"gonum.org/v1/plot/vg"
	"gonum.org/v1/plot/vg/draw"

	"soba.invalid/soba/internal/core/cell"
	"soba.invalid/soba/internal/wire"
)

// The colours of the light theme of the console.
var (
	paper  = color.RGBA{0xfb, 0xfa, 0xf6, 0xff}
	ink    = color.RGBA{0x1b, 0x27, 0x33, 0xff}
	faint  = color.RGBA{0xdc, 0xd8, 0xcb, 0xff}
	teal   = color.RGBA{0x0b, 0x5a, 0x66, 0xff}
	ochre  = color.RGBA{0x7c, 0x52, 0x00, 0xff}
	red    = color.RGBA{0x9c, 0x2c, 0x27, 0xff}
	sand   = color.RGBA{0xc4, 0xbc, 0xa6, 0xff}
	shadow = color.NRGBA{0x1b, 0x27, 0x33, 0x60}
)

// Formats are the endings of the files that can be written.
var Formats = []string{".svg", ".png", ".pdf"}

// ErrNothing is the error of a figure of nothing.
var ErrNothing = errors.New("there is nothing to draw")

// Save writes a figure to a file, in the format that its ending names.
func Save(p *plot.Plot, path string) error {
	if ending := strings.ToLower(filepath.Ext(path)); !slices.Contains(Formats, ending) {
		return fmt.Errorf("%q has an ending that is no format of figures: %s", path, strings.Join(Formats, ", "))
	}
	const width, height, margin = 10 * vg.Inch, 5.6 * vg.Inch, 14
	canvas, err := draw.NewFormattedCanvas(width, height, strings.ToLower(filepath.Ext(path))[1:])
	if err != nil {
		return err
	}
	whole := draw.New(canvas)
	whole.SetColor(paper)
	whole.Fill(whole.Rectangle.Path())
	p.Draw(draw.Crop(whole, margin, -margin, margin, -margin))
	f, err := os.Create(path)
	if err != nil {
		return err
	}
	if _, err := canvas.WriteTo(f); err != nil {
		f.Close() //nolint:errcheck // the first error tells
		return err
	}
	return f.Close()
}

func blank(title, source string) *plot.Plot {
	p := plot.New()
	p.BackgroundColor = paper
	sans := font.Font{Typeface: "Liberation", Variant: "Sans"}
	style := func(s *text.Style, size vg.Length) {
		s.Font = sans
		s.Font.Size = size
		s.Color = ink
	}
	p.Title.Text = title + "\n" + source
	style(&p.Title.TextStyle, 11)
	p.Title.Padding = 8
	for _, a := range []*plot.Axis{&p.X, &p.Y} {
		style(&a.Label.TextStyle, 9)
		style(&a.Tick.Label, 9)
		a.LineStyle.Color, a.Tick.LineStyle.Color = faint, faint
	}
	style(&p.Legend.TextStyle, 9)
	p.Legend.Top, p.Legend.Left = true, true
	p.Legend.Padding = 2
	p.Legend.XOffs, p.Legend.YOffs = 6, -2
	grid := plotter.NewGrid()
	grid.Horizontal.Color, grid.Vertical.Width = faint, 0
	p.Add(grid)
	return p
}

// volumeShare is the share of the height that volumes take, at the foot of a figure.
const volumeShare = 0.16

// Prices draws the closes of a listing, with volume at the foot, and splits and
// ex-dates marked on the line.
func Prices(s *wire.PriceSeries, adjust string) (*plot.Plot, error) {
	var line plotter.XYs
	for i, day := range s.Bars.Date {
		if s.Bars.Close[i] != nil {
			line = append(line, plotter.XY{X: seconds(day), Y: *s.Bars.Close[i]})
		}
	}
	if len(line) < 2 {
		return nil, ErrNothing
	}
	meaning := map[string]string{"none": "as traded", "splits": "in today's shares", "full": "in today's shares, dividends reinvested"}[adjust]
	p := blank(fmt.Sprintf("%s (%s): close, %s, %s", s.Name, s.Symbol, s.Currency, meaning),
		fmt.Sprintf("from %s, %s to %s", s.Source, s.Bars.Date[0], s.Bars.Date[len(s.Bars.Date)-1]))
	p.X.Tick.Marker = plot.TimeTicks{Format: "2006-01-02", Ticker: ticks(line[0].X, line[len(line)-1].X)}
	p.Y.Label.Text = s.Currency
	closes, err := plotter.NewLine(line)
	if err != nil {
		return nil, err
	}
	closes.Color, closes.Width = teal, 1.2
	low, high := line[0].Y, line[0].Y
	for _, at := range line {
		low, high = math.Min(low, at.Y), math.Max(high, at.Y)
	}
	foot := low - (high-low)*(volumeShare+0.06)
	p.Y.Min, p.Y.Max = foot, high+(high-low)*0.18 // room for the legend
	if most := greatest(s.Bars.Volume); most > 0 {
		var bars volumes
		for i, day := range s.Bars.Date {
			if v := s.Bars.Volume[i]; v != nil {
				bars.lines = append(bars.lines, plotter.XY{X: seconds(day), Y: foot + *v/most*(high-low)*volumeShare})
			}
		}
		bars.foot = foot
		p.Add(&bars)
		c := cell.Cell{Value: cell.Of(most), Unit: "shares"}
		p.Legend.Add("volume, up to "+c.Readable(), &bars)
	}
	p.Add(closes)
	mark := func(what string, days []string, fill color.Color, shape draw.GlyphDrawer) error {
		var points plotter.XYs
		for _, day := range days {
			if i := slices.IndexFunc(line, func(at plotter.XY) bool { return at.X >= seconds(day) }); i >= 0 {
				points = append(points, line[i])
			}
		}
		if len(points) == 0 {
			return nil
		}
		drawn, err := plotter.NewScatter(points)
		if err != nil {
			return err
		}
		drawn.GlyphStyle = draw.GlyphStyle{Color: fill, Radius: 3.4, Shape: shape}
		p.Add(drawn)
		p.Legend.Add(what, drawn)
		return nil
	}
	var exDates, splits []string
	for _, d := range s.Dividends {
		exDates = append(exDates, d.Ex)
	}
	for _, x := range s.Splits {
		splits = append(splits, x.Date)
	}
	return p, errors.Join(mark("ex-date", exDates, ochre, draw.CircleGlyph{}), mark("split", splits, red, draw.PyramidGlyph{}))
}

func seconds(day string) float64 {
	t, err := time.Parse(time.DateOnly, day)
	if err != nil {
		return 0 // the service writes dates alone
	}
	return float64(t.Unix())
}

func greatest(all []*float64) (most float64) {
	for _, x := range all {
		if x != nil {
			most = math.Max(most, *x)
		}
	}
	return most
}

// ticks are about eight even steps of whole days.
func ticks(from, to float64) plot.Ticker {
	return plot.TickerFunc(func(_, _ float64) (out []plot.Tick) {
		const day, wanted = 86400, 8
		step := math.Max(day, math.Round((to-from)/wanted/day)*day)
		for x := from; x <= to; x += step {
			out = append(out, plot.Tick{Value: x, Label: "-"}) // written by the time ticker
		}
		return out
	})
}

// volumes draws a line from the foot of the figure for each bar.
type volumes struct {
	lines plotter.XYs
	foot  float64
}

func (v *volumes) Plot(c draw.Canvas, p *plot.Plot) {
	x, y := p.Transforms(&c)
	style := draw.LineStyle{Color: shadow, Width: vg.Length(math.Max(0.4, math.Min(4, 0.6*float64(c.Max.X-c.Min.X)/float64(len(v.lines)))))}
	for _, at := range v.lines {
		c.StrokeLine2(style, x(at.X), y(v.foot), x(at.X), y(at.Y))
	}
}

// Thumbnail draws the mark of the legend.
func (v *volumes) Thumbnail(c *draw.Canvas) {
	middle := (c.Min.Y + c.Max.Y) / 2
	c.StrokeLine2(draw.LineStyle{Color: shadow, Width: 3}, c.Min.X, middle, c.Max.X, middle)
}

// part is one colour of stacked bars.
type part struct {
	name   string
	values plotter.Values
	fill   color.Color
}

// stacked draws bars upon each other, those that hold anything.
func stacked(p *plot.Plot, labels []string, parts []part) error {
	width := vg.Points(math.Min(34, 430/float64(len(labels))))
	var below *plotter.BarChart
	for _, x := range parts {
		if !slices.ContainsFunc(x.values, func(v float64) bool { return v > 0 }) {
			continue
		}
		bars, err := plotter.NewBarChart(x.values, width)
		if err != nil {
			return err
		}
		bars.Color = x.fill
		bars.LineStyle.Width = 0 // a bar of nothing would have an outline
		if below != nil {
			bars.StackOn(below)
		}
		below = bars
		p.Add(bars)
		p.Legend.Add(x.name, bars)
	}
	if below == nil {
		return ErrNothing
	}
	p.NominalX(labels...)
	p.Y.Min, p.Y.Max = 0, p.Y.Max*1.16
	return nil
}

// Dividends draws what one of today's shares was paid, by calendar year.
func Dividends(d *wire.Dividends) (*plot.Plot, error) {
	if len(d.Years) == 0 {
		return nil, ErrNothing
	}
	p := blank(fmt.Sprintf("%s (%s): dividends by year of the ex-date, %s a share, in today's shares", d.Name, d.Symbol, d.Currency),
		fmt.Sprintf("from %s, up to %s", d.Source, d.History[0].Ex))
	p.Y.Label.Text = d.Currency + " a share"
	regular, special, capital := part{name: "regular", fill: teal}, part{name: "special", fill: ochre}, part{name: "return of capital", fill: sand}
	var labels []string
	step := 1 + len(d.Years)/16
	for i := len(d.Years) - 1; i >= 0; i-- {
		y := d.Years[i]
		label := ""
		if i%step == 0 {
			label = fmt.Sprint(y.Year)
		}
		if y.Partial {
			label += " so far"
		}
		labels = append(labels, label)
		regular.values, special.values, capital.values = append(regular.values, y.Regular), append(special.values, y.Special), append(capital.values, y.Capital)
	}
	return p, stacked(p, labels, []part{regular, special, capital})
}

// Income draws what a list pays by month, in the currency that pays most often.
func Income(x *wire.Income) (*plot.Plot, error) {
	if len(x.Total) == 0 {
		return nil, ErrNothing
	}
	if len(x.Total) > 1 {
		return nil, errors.New("a figure holds one currency: say which with --in")
	}
	money := x.Total[0].Currency
	p := blank(fmt.Sprintf("Income of %s by month of payment, %s, before tax", x.Watchlist, money), fmt.Sprintf("%s to %s, as known today", x.From, x.To))
	p.Y.Label.Text = money
	announced, expected := part{name: "announced", fill: teal}, part{name: "expected", fill: sand}
	var labels []string
	for _, m := range x.Months {
		labels = append(labels, m.Month)
		sum := wire.IncomeSum{}
		if len(m.Sums) > 0 {
			sum = m.Sums[0]
		}
		announced.values, expected.values = append(announced.values, sum.Amount-sum.Expected), append(expected.values, sum.Expected)
	}
	return p, stacked(p, labels, []part{announced, expected})
}
