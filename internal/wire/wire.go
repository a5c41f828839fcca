// Package wire holds the JSON of the HTTP interface, as the service writes it
// and the client reads it.
package wire

import (
	"encoding/json"
	"time"
)

// Listing is one instrument traded on one exchange.
type Listing struct {
	Symbol   string `json:"symbol" doc:"Ticker, dot, exchange; or a pair of currencies" example:"KELP.XCVH"`
	Name     string `json:"name"`
	ISIN     string `json:"isin,omitempty"`
	Kind     string `json:"kind" enum:"share,etf,fund,bond,pair,index,future,option"`
	Exchange string `json:"exchange" doc:"Name of the exchange"`
	Currency string `json:"currency" doc:"ISO 4217 code"`
	Ended    string `json:"ended,omitempty" doc:"Last day of trading, when it was delisted or has matured"`
}

// Listings are the answer to a search.
type Listings struct {
	Listings []Listing `json:"listings"`
}

// Watchlist is an ordered list of listings.
type Watchlist struct {
	Name    string    `json:"name"`
	Version int64     `json:"version" doc:"Counts every change; name it in If-Match to refuse a lost update"`
	Rows    int       `json:"rows"`
	Held    int       `json:"held" doc:"Rows with a quantity"`
	Changed time.Time `json:"changed"`
}

// Watchlists are all watchlists.
type Watchlists struct {
	Watchlists []Watchlist `json:"watchlists"`
}

// Row is one listing of a watchlist. Quantity and cost are exact decimals, as typed.
type Row struct {
	Listing
	Quantity string    `json:"quantity,omitempty"`
	Cost     string    `json:"cost,omitempty"`
	Added    time.Time `json:"added"`
}

// Rows are the rows of a watchlist in order.
type Rows struct {
	Watchlist
	Listings []Row `json:"listings"`
}

// NewRow asks for a listing to be added to a watchlist.
type NewRow struct {
	Symbol   string `json:"symbol" doc:"Symbol, ISIN, or a ticker that only one listing has" maxLength:"60"`
	Quantity string `json:"quantity,omitempty" doc:"Decimal; leave out to watch only" maxLength:"40"`
	Cost     string `json:"cost,omitempty" doc:"Decimal, for one share or unit, in the listing's currency" maxLength:"40"`
	Position *int   `json:"position,omitempty" minimum:"0" doc:"Counted from 0; at the end when left out"`
}

// RowProblem is a row that could not be added.
type RowProblem struct {
	Index   int      `json:"index" doc:"Which of the rows asked for, from 0"`
	Symbol  string   `json:"symbol"`
	Problem *Problem `json:"problem"`
}

// Added is what became of rows asked for.
type Added struct {
	Watchlist
	Added    []string     `json:"added" doc:"Symbols that were added"`
	Problems []RowProblem `json:"problems"`
}

// Imported is what became of a list that was read.
type Imported struct {
	Watchlist
	Columns  map[string]string `json:"columns" doc:"The header that was taken for each kind of column"`
	Headers  []string          `json:"headers" doc:"All headers of the file"`
	DryRun   bool              `json:"dry_run" doc:"Nothing was added; this is what would be"`
	Lines    []ImportedLine    `json:"lines"`
	Added    int               `json:"added"`
	Present  int               `json:"present" doc:"Names that were in the list already; their quantity and cost were set"`
	Problems int               `json:"problems"`
}

// ImportedLine is one line of the list.
type ImportedLine struct {
	Line     int    `json:"line" doc:"In the file, from 1"`
	Text     string `json:"text"`
	Symbol   string `json:"symbol,omitempty"`
	Name     string `json:"name,omitempty"`
	Quantity string `json:"quantity,omitempty"`
	Cost     string `json:"cost,omitempty"`
	Present  bool   `json:"present,omitempty"`
	Problem  string `json:"problem,omitempty" doc:"Why it was not added"`
	Hint     string `json:"hint,omitempty"`
}

// Cell is one value and its account.
type Cell struct {
	V        any        `json:"v" doc:"Number, text, time or null; null always has a reason"`
	Unit     string     `json:"unit"`
	State    string     `json:"state" enum:"fresh,stale,pending,missing"`
	Reason   string     `json:"reason"`
	Flags    []string   `json:"flags"`
	Observed *time.Time `json:"observed" doc:"The time the value describes"`
	Fetched  *time.Time `json:"fetched" doc:"When Soba learned it"`
	Period   string     `json:"period"`
	Source   string     `json:"source"`
	Detail   string     `json:"detail,omitempty" doc:"The missing input, the fault, or the text that was rejected"`
}

// Column is one column of a table.
type Column struct {
	ID         string `json:"id"`
	Label      string `json:"label"`
	Unit       string `json:"unit"`
	Definition string `json:"definition"`
}

// TableRow is one row of a table; its cells are in the order of the columns.
type TableRow struct {
	Symbol   string `json:"symbol"`
	Name     string `json:"name"`
	Kind     string `json:"kind"`
	Currency string `json:"currency"`
	Held     bool   `json:"held"`
	Cells    []Cell `json:"cells"`
}

// Counts are numbers of cells by state.
type Counts struct {
	Fresh   int `json:"fresh"`
	Stale   int `json:"stale"`
	Pending int `json:"pending"`
	Missing int `json:"missing"`
}

// Table is a watchlist by columns, evaluated at an instant.
type Table struct {
	Watchlist string     `json:"watchlist"`
	In        string     `json:"in,omitempty" doc:"The currency of all prices and amounts; each row has its own when left out"`
	AsOf      time.Time  `json:"as_of"`
	Version   string     `json:"version" doc:"Names the content; the same while nothing changed"`
	Of        int        `json:"of" doc:"Rows before the filter"`
	Notice    string     `json:"notice,omitempty" doc:"What the reader should know about the whole table"`
	Columns   []Column   `json:"columns"`
	Rows      []TableRow `json:"rows"`
	Counts    Counts     `json:"counts"`
}

// Explanation is the account of a cell as a tree.
type Explanation struct {
	Symbol     string        `json:"symbol"`
	Field      string        `json:"field"`
	Label      string        `json:"label"`
	Definition string        `json:"definition"`
	Reference  string        `json:"reference,omitempty"`
	Readable   string        `json:"readable" doc:"The value as people write it"`
	Cell       Cell          `json:"cell"`
	Meaning    string        `json:"meaning,omitempty" doc:"The reason in words"`
	Advice     string        `json:"advice,omitempty" doc:"What to do about it"`
	Formula    string        `json:"formula,omitempty"`
	Span       string        `json:"span,omitempty" doc:"The stretch of bars it is measured from"`
	Inputs     []Explanation `json:"inputs,omitempty"`
	Request    *Request      `json:"request,omitempty" doc:"The request that brought the value"`
	Place      string        `json:"place,omitempty" doc:"Where in the stored response the value stands"`
	RawName    string        `json:"raw_name,omitempty" doc:"The name under which the source wrote it"`
	RawText    string        `json:"raw_text,omitempty" doc:"The text that the source wrote"`
	Reports    []ReportRead  `json:"reports,omitempty" doc:"The reports that a line of the accounts was read from"`
	Besides    []Reading     `json:"besides,omitempty" doc:"What else it was read from"`
	Others     []OtherSource `json:"others,omitempty" doc:"What other sources have given"`
	Checked    *time.Time    `json:"checked,omitempty" doc:"When the source was last asked"`
}

// ReportRead is a report of an issuer from which a value was read.
type ReportRead struct {
	Label   string   `json:"label" doc:"As FY2025 or 2025-Q3"`
	End     string   `json:"end"`
	Filed   string   `json:"filed,omitempty" doc:"Day of publication"`
	Less    bool     `json:"less,omitempty" doc:"Subtracted, rather than added"`
	Place   string   `json:"place,omitempty" doc:"Where in the stored response it stands"`
	Request *Request `json:"request,omitempty" doc:"The request that brought it"`
}

// Reading is another dataset, or that of another listing, which a value was read from.
type Reading struct {
	Symbol  string   `json:"symbol"`
	Dataset string   `json:"dataset"`
	Cell    Cell     `json:"cell" doc:"Its state, clocks and source"`
	Request *Request `json:"request,omitempty" doc:"The request that brought it"`
}

// OtherSource is what a source that is not shown has given.
type OtherSource struct {
	Source  string     `json:"source"`
	V       any        `json:"v"`
	Outcome string     `json:"outcome,omitempty" doc:"Why it has no value"`
	Detail  string     `json:"detail,omitempty"`
	Checked *time.Time `json:"checked,omitempty"`
}

// Health is what is stale or missing in a table.
type Health struct {
	Watchlist string         `json:"watchlist"`
	AsOf      time.Time      `json:"as_of"`
	Counts    Counts         `json:"counts"`
	Groups    []HealthGroup  `json:"groups"`
	Fields    []FieldHealth  `json:"fields"`
	Short     []ShortHistory `json:"short,omitempty" doc:"Names with fewer years of accounts than are wanted"`
}

// ShortHistory is a name of which fewer years of accounts are known than are wanted.
type ShortHistory struct {
	Symbol string `json:"symbol"`
	Name   string `json:"name"`
	Years  int    `json:"years" doc:"Fiscal years without a gap up to the newest"`
	From   string `json:"from,omitempty" doc:"The first of them, as FY2019"`
	Reason string `json:"reason" doc:"Why there are no more"`
	Advice string `json:"advice"`
}

// HealthGroup is all that is stale or missing for one reason.
type HealthGroup struct {
	State   string       `json:"state"`
	Reason  string       `json:"reason"`
	Meaning string       `json:"meaning"`
	Advice  string       `json:"advice"`
	Cells   int          `json:"cells"`
	Names   []NameHealth `json:"names"`
}

// NameHealth is what one listing lacks for one reason.
type NameHealth struct {
	Symbol string   `json:"symbol"`
	Name   string   `json:"name"`
	Fields []string `json:"fields"`
	Detail string   `json:"detail,omitempty"`
}

// FieldHealth counts a column's cells by state.
type FieldHealth struct {
	Field         string `json:"field"`
	Counts        Counts `json:"counts"`
	NotApplicable int    `json:"not_applicable" doc:"Missing values that cannot exist"`
}

// RefreshAsk asks for a refresh.
type RefreshAsk struct {
	Only       []string `json:"only,omitempty" doc:"Datasets; all that fields read when left out"`
	Columns    []string `json:"columns,omitempty" doc:"Fields on screen: what they need comes first, and alone when only_columns is set"`
	ForColumns bool     `json:"only_columns,omitempty" doc:"Bring only what the columns need"`
	From       string   `json:"from,omitempty" doc:"How far back histories are wanted: a date, or a relative one as -20y"`
	In         string   `json:"in,omitempty" doc:"Bring what converts into this currency too" maxLength:"3"`
	Force      bool     `json:"force,omitempty" doc:"Ask again even for what is fresh"`
	Compare    bool     `json:"compare,omitempty" doc:"Ask the other sources too, to flag where they disagree"`
	DryRun     bool     `json:"dry_run,omitempty" doc:"Plan only"`
}

// Plan is what a refresh would do.
type Plan struct {
	Requests []PlannedRequest `json:"requests"`
	Skipped  []PlannedGap     `json:"skipped" doc:"Needs that are not due, counted by reason"`
	Refused  []PlannedGap     `json:"refused" doc:"Needs that cannot be met, counted by reason"`
	Units    map[string]int   `json:"units" doc:"Cost by source"`
	Left     map[string]int   `json:"left" doc:"Units left today by source, before this"`
	Seconds  float64          `json:"seconds" doc:"Expected time"`
}

// PlannedRequest is one call to a source.
type PlannedRequest struct {
	Source   string   `json:"source"`
	Call     string   `json:"call"`
	Datasets []string `json:"datasets"`
	Symbols  int      `json:"symbols"`
	Exchange string   `json:"exchange,omitempty" doc:"Of a call that answers for a whole exchange"`
	From     string   `json:"from,omitempty"`
	To       string   `json:"to,omitempty"`
	Units    int      `json:"units"`
}

// PlannedGap counts listings whose needs of the same datasets share a reason.
type PlannedGap struct {
	Datasets []string `json:"datasets"`
	Reason   string   `json:"reason"`
	Count    int      `json:"count"`
	Symbols  []string `json:"symbols" doc:"The first of them"`
}

// Refresh is one act of planning, fetching and storing.
type Refresh struct {
	ID        int64      `json:"id"`
	Watchlist string     `json:"watchlist,omitempty"`
	Datasets  []string   `json:"datasets"`
	State     string     `json:"state" enum:"queued,running,done,cancelled,failed"`
	Asked     time.Time  `json:"asked"`
	Started   *time.Time `json:"started"`
	Finished  *time.Time `json:"finished"`
	Planned   int        `json:"planned" doc:"Requests"`
	Answered  int        `json:"answered"`
	Failed    int        `json:"failed"`
	Units     int        `json:"units" doc:"Spent"`
	Skipped   int        `json:"skipped" doc:"Needs that were not due"`
	Refused   int        `json:"refused" doc:"Needs that could not be planned"`
	Shared    int        `json:"shared" doc:"Needs that another refresh is bringing"`
	Cause     string     `json:"cause" doc:"Why it was asked for: hand, table, schedule, stream or directory"`
	Fault     string     `json:"fault,omitempty"`
	Dry       *Plan      `json:"plan,omitempty" doc:"Of a dry run"`
}

// Over tells whether the refresh has ended.
func (r *Refresh) Over() bool { return r.State != "queued" && r.State != "running" }

// Refreshes are the newest refreshes.
type Refreshes struct {
	Refreshes []Refresh `json:"refreshes"`
}

// Event is something that happened in a refresh.
type Event struct {
	At   time.Time       `json:"at"`
	Kind string          `json:"kind"`
	Data json.RawMessage `json:"data"`
}

// Request is an entry of the request log.
type Request struct {
	ID        int64     `json:"id"`
	Refresh   int64     `json:"refresh,omitempty"`
	Source    string    `json:"source"`
	Call      string    `json:"call"`
	Datasets  []string  `json:"datasets"`
	Address   string    `json:"address"`
	Symbols   int       `json:"symbols"`
	Started   time.Time `json:"started"`
	TookMs    float64   `json:"took_ms"`
	Status    int       `json:"status"`
	Bytes     int64     `json:"bytes"`
	Units     int       `json:"units"`
	UnitsLeft int       `json:"units_left"`
	Fault     string    `json:"fault,omitempty"`
	Remarks   []string  `json:"remarks,omitempty" doc:"What in the answer is not as described"`
	Response  string    `json:"response,omitempty" doc:"SHA-256 of the stored response"`
}

// Requests are the newest entries of the request log.
type Requests struct {
	Requests []Request `json:"requests"`
}

// Field is an entry of the catalogue.
type Field struct {
	ID         string   `json:"id"`
	Label      string   `json:"label"`
	Unit       string   `json:"unit"`
	Dataset    string   `json:"dataset,omitempty"`
	Formula    string   `json:"formula,omitempty"`
	Span       string   `json:"span,omitempty"`
	Takes      string   `json:"takes,omitempty" enum:"date,year,quarter" doc:"The form of period that it takes, as price.close@2025-12-31, dividend.annual@2025, dividend.yield_at@2025-Q3"`
	Definition string   `json:"definition"`
	Reference  string   `json:"reference,omitempty"`
	NotFor     []string `json:"not_for,omitempty" doc:"Kinds of listing for which it does not exist"`
}

// View is a named set of columns.
type View struct {
	Name    string   `json:"name"`
	Label   string   `json:"label"`
	Columns []string `json:"columns"`
}

// Catalogue is a selection of fields, and the views.
type Catalogue struct {
	Fields []Field `json:"fields"`
	Views  []View  `json:"views"`
}

// Source is the state of a source.
type Source struct {
	Name        string     `json:"name"`
	Title       string     `json:"title"`
	Licence     string     `json:"licence"`
	Homepage    string     `json:"homepage,omitempty"`
	Address     string     `json:"address" doc:"Address or folder"`
	Datasets    []string   `json:"datasets"`
	DelayMin    float64    `json:"delay_minutes"`
	HasKey      bool       `json:"has_key"`
	KeySetting  string     `json:"key_setting,omitempty" doc:"Environment variable that holds the key"`
	Enabled     bool       `json:"enabled"`
	PerSecond   float64    `json:"per_second" doc:"Requests a second; 0 for no limit"`
	AtOnce      int        `json:"at_once" doc:"Requests at the same time"`
	UnitsPerDay int        `json:"units_per_day"`
	Spent       int        `json:"spent_today"`
	Left        int        `json:"left_today"`
	Resets      time.Time  `json:"resets" doc:"When the allowance starts anew"`
	Requests    int        `json:"requests_today"`
	Failures    int        `json:"failures_today"`
	LastSuccess *time.Time `json:"last_success"`
	LastFault   *time.Time `json:"last_fault"`
	Fault       string     `json:"fault,omitempty"`
	Advice      string     `json:"advice,omitempty"`
	Remark      string     `json:"remark,omitempty" doc:"What in the last answer is not as described"`
	Broken      bool       `json:"broken" doc:"It failed too often in a row and is left alone for a moment"`
	LatencyMs   float64    `json:"latency_ms" doc:"Median of the last hundred answers"`
	SlowMs      float64    `json:"slow_ms" doc:"Below which 95 of a hundred stay"`
	Calls       []Call     `json:"calls"`
}

// Call is one way of asking a source.
type Call struct {
	Name       string   `json:"name"`
	Datasets   []string `json:"datasets"`
	Kinds      []string `json:"kinds,omitempty"`
	Takes      string   `json:"takes"`
	Batch      int      `json:"batch"`
	Format     string   `json:"format"`
	Path       string   `json:"path"`
	PerRequest int      `json:"units_per_request"`
	PerSymbol  int      `json:"units_per_symbol"`
}

// Sources are all sources in order of preference.
type Sources struct {
	Sources     []Source     `json:"sources"`
	Preferences []Preference `json:"preferences"`
}

// Preference is the order of sources for one dataset.
type Preference struct {
	Dataset string   `json:"dataset"`
	Sources []string `json:"sources" doc:"In order; those that serve it"`
	Set     bool     `json:"set" doc:"By the user, rather than the order of the descriptions"`
	Compare bool     `json:"compare" doc:"The others are asked too, and disagreement is flagged"`
}

// SourceChecks is what a source's calls were found to do.
type SourceChecks struct {
	Source string        `json:"source"`
	Checks []SourceCheck `json:"checks"`
}

// SourceCheck is what one call was found to do.
type SourceCheck struct {
	Call     string   `json:"call"`
	Datasets []string `json:"datasets"`
	Asked    string   `json:"asked"`
	Verdict  string   `json:"verdict" doc:"works, skipped, or the kind of fault"`
	Detail   string   `json:"detail,omitempty"`
	Advice   string   `json:"advice,omitempty"`
	Remarks  []string `json:"remarks,omitempty"`
	Address  string   `json:"address,omitempty"`
	Status   int      `json:"status,omitempty"`
	TookMs   float64  `json:"took_ms"`
	Units    int      `json:"units"`
	Begins   string   `json:"begins,omitempty" doc:"The beginning of the answer"`
	Samples  []Sample `json:"samples,omitempty"`
}

// Sample is one record as it came and as it was understood.
type Sample struct {
	Dataset string        `json:"dataset"`
	Symbol  string        `json:"symbol"`
	Place   string        `json:"place"`
	Fields  []SampleField `json:"fields"`
}

// SampleField is one mapped field of a sample.
type SampleField struct {
	Field string `json:"field"`
	At    string `json:"at" doc:"The place that the description names"`
	Raw   string `json:"raw" doc:"What stands there"`
	Found string `json:"found" enum:"absent,null,text,number,truth,nested"`
	Value string `json:"value" doc:"What it was understood as"`
	Wrong string `json:"wrong,omitempty"`
}

// Schedule is when a watchlist refreshes by itself.
type Schedule struct {
	Cron  string     `json:"cron,omitempty" doc:"Five fields: minute, hour, day of month, month, day of week"`
	Zone  string     `json:"zone,omitempty" doc:"Time zone of the fields; UTC when left out"`
	Every string     `json:"every,omitempty" doc:"How often while an exchange of the list is open, as 15m; and once after it has closed"`
	Next  *time.Time `json:"next,omitempty"`
	Last  *time.Time `json:"last,omitempty"`
}

// Stream is how the streaming of a watchlist's quotes stands.
type Stream struct {
	Live         bool       `json:"live"`
	EverySeconds int        `json:"every_seconds" doc:"How often quotes are asked for while it is live"`
	Next         *time.Time `json:"next" doc:"When they are asked for next, or when an exchange opens"`
	Why          string     `json:"why" doc:"Why it stands still"`
}

// Members are the members of an index.
type Members struct {
	Symbol  string   `json:"symbol"`
	Name    string   `json:"name"`
	Source  string   `json:"source"`
	Members []Member `json:"members"`
}

// Member is one member of an index.
type Member struct {
	Symbol string  `json:"symbol"`
	Name   string  `json:"name" doc:"Empty where no source lists it"`
	Weight float64 `json:"weight,omitempty"`
}

// Status is the state of the service.
type Status struct {
	Version   string    `json:"version"`
	Now       time.Time `json:"now" doc:"The service's clock"`
	Database  string    `json:"database" enum:"ready,away"`
	Listings  int       `json:"listings"`
	Exchanges []Phase   `json:"exchanges"`
}

// Phase is where an exchange stands in its day.
type Phase struct {
	Exchange string     `json:"exchange"`
	Name     string     `json:"name"`
	Phase    string     `json:"phase" enum:"pre_open,open,closed"`
	Next     *time.Time `json:"next" doc:"When it opens or closes next"`
}

// Exchanges are the exchanges with their calendars.
type Exchanges struct {
	Exchanges []Exchange `json:"exchanges"`
}

// Exchange is a market: its hours on its own wall, and the days on which they do not hold.
type Exchange struct {
	Phase
	Country  string        `json:"country"`
	Currency string        `json:"currency"`
	Zone     string        `json:"zone" doc:"Time zone by its IANA name" example:"Europe/London"`
	PreOpens string        `json:"pre_opens" doc:"When orders are first taken" example:"07:30"`
	Opens    string        `json:"opens" example:"08:00"`
	Closes   string        `json:"closes" example:"16:30"`
	Weekend  []string      `json:"weekend" doc:"Days of the week without trading"`
	Learned  []string      `json:"learned,omitempty" doc:"Days of the week on which trading shows that they are not what was said"`
	Index    string        `json:"index,omitempty" doc:"Main index, which betas are against"`
	Days     []CalendarDay `json:"days" doc:"Holidays and days that close early; weekends are left out"`
}

// CalendarDay is a day that is not like others.
type CalendarDay struct {
	Date   string `json:"date"`
	Name   string `json:"name,omitempty" doc:"Of a holiday"`
	Closes string `json:"closes,omitempty" doc:"When it closes early"`
}

// Statements are the accounts of an issuer, line by line.
type Statements struct {
	Listing
	Standing
	By         string            `json:"by" enum:"year,half,quarter,ttm"`
	Currency   string            `json:"accounts_currency" doc:"Of the amounts"`
	Periods    []StatementPeriod `json:"periods" doc:"The newest first"`
	Lines      []StatementLine   `json:"lines" doc:"Those that any of the periods has"`
	Unreported []string          `json:"unreported,omitempty" doc:"Lines that none of them has"`
}

// StatementPeriod is one stretch of time that accounts cover.
type StatementPeriod struct {
	Period     string `json:"period" doc:"As fields take it" example:"FY-1"`
	Label      string `json:"label" example:"FY2025"`
	End        string `json:"end"`
	Filed      string `json:"filed,omitempty" doc:"When the newest report that it was read from was published"`
	Standalone bool   `json:"standalone,omitempty" doc:"Of the parent alone, for want of consolidated accounts"`
	Derived    string `json:"derived,omitempty" doc:"The reports that it was put together from"`
}

// StatementLine is one line of the accounts in each of the periods.
type StatementLine struct {
	Field      string     `json:"field" example:"income.revenue"`
	Label      string     `json:"label"`
	Definition string     `json:"definition"`
	Cells      []Cell     `json:"cells"`
	Growth     []*float64 `json:"growth,omitempty" doc:"Against the same period a year before, as a fraction"`
}

// Across is figures of accounts across names, period by period.
type Across struct {
	Common  string        `json:"common,omitempty" doc:"Day to which all are read; without it each name has its own newest"`
	Fields  []AcrossField `json:"fields"`
	Periods []string      `json:"periods" doc:"As asked for, the newest first"`
	Rows    []AcrossRow   `json:"rows"`
	Omitted []string      `json:"omitted" doc:"Names of a kind that publishes no accounts"`
}

// AcrossField is one figure.
type AcrossField struct {
	ID         string `json:"id"`
	Label      string `json:"label"`
	Unit       string `json:"unit"`
	Definition string `json:"definition"`
}

// AcrossRow is one name with its own periods.
type AcrossRow struct {
	Listing
	Ends  []PeriodEnd `json:"ends" doc:"By period"`
	Cells [][]Cell    `json:"cells" doc:"By field, and by period"`
}

// PeriodEnd is which stretch of time a period is for a name.
type PeriodEnd struct {
	Label string `json:"label,omitempty" doc:"As FY2025; nothing where there are no accounts of it"`
	End   string `json:"end,omitempty"`
	Filed string `json:"filed,omitempty" doc:"Day of publication"`
	Apart bool   `json:"apart,omitempty" doc:"It ends more than 92 days before that of another name"`
}

// Standing is how what is shown of a listing stands: as new as it can be, and from where.
type Standing struct {
	State   string     `json:"state" enum:"fresh,stale,pending,missing"`
	Reason  string     `json:"reason"`
	Detail  string     `json:"detail,omitempty"`
	Source  string     `json:"source"`
	Fetched *time.Time `json:"fetched"`
}

// Estimates are what analysts expect of an issuer.
type Estimates struct {
	Listing
	Standing
	In       string     `json:"estimates_currency" doc:"Of the amounts"`
	Ahead    []Estimate `json:"ahead" doc:"Quarters and then years that are to come, the nearest first"`
	Behind   []Estimate `json:"behind" doc:"Quarters that have been reported, the newest first"`
	Opinions []Opinion  `json:"opinions" doc:"Recommendations and targets through time, the newest first"`
	Next     string     `json:"next_report,omitempty" doc:"Day on which the next report is expected"`
}

// Opinion is what analysts say of a share on a day.
type Opinion struct {
	Date           string   `json:"date"`
	StrongBuy      *float64 `json:"strong_buy" doc:"How many analysts say so"`
	Buy            *float64 `json:"buy"`
	Hold           *float64 `json:"hold"`
	Reduce         *float64 `json:"reduce"`
	Sell           *float64 `json:"sell"`
	Recommendation *float64 `json:"recommendation" doc:"Their mean, from 1 (strong buy) to 5 (sell)"`
	Target         *float64 `json:"target" doc:"Mean price that they aim at, in the currency of the listing"`
	High           *float64 `json:"target_high"`
	Low            *float64 `json:"target_low"`
}

// Holders is who holds an issuer's shares.
type Holders struct {
	Listing
	Standing
	Together []Holding `json:"together" doc:"What each group has together, the newest first"`
	Largest  []Holding `json:"largest" doc:"Holders by group, the largest first"`
}

// Holding is what somebody holds, or a group of holders together.
type Holding struct {
	Date   string   `json:"date"`
	Group  string   `json:"group" enum:"insiders,institutions"`
	Holder string   `json:"holder,omitempty"`
	Role   string   `json:"role,omitempty" doc:"What an insider is to the issuer"`
	Shares *float64 `json:"shares"`
	Part   *float64 `json:"part" doc:"Of all shares, as a fraction"`
	Change *float64 `json:"change,omitempty" doc:"Of the shares, since what was reported before"`
}

// Estimate is what is expected of a period.
type Estimate struct {
	Period   string   `json:"period" example:"2026-Q3"`
	End      string   `json:"end"`
	Year     bool     `json:"year" doc:"A fiscal year, and not a quarter"`
	EPS      *float64 `json:"eps" doc:"Mean estimate of diluted earnings a share"`
	High     *float64 `json:"eps_high"`
	Low      *float64 `json:"eps_low"`
	Analysts *float64 `json:"analysts"`
	Before7  *float64 `json:"eps_7d" doc:"The mean 7 days ago"`
	Before30 *float64 `json:"eps_30d"`
	Before60 *float64 `json:"eps_60d"`
	Before90 *float64 `json:"eps_90d"`
	Revenue  *float64 `json:"revenue" doc:"Mean estimate of revenue"`
	RevHigh  *float64 `json:"revenue_high"`
	RevLow   *float64 `json:"revenue_low"`
	RevBy    *float64 `json:"revenue_analysts"`
	Actual   *float64 `json:"eps_actual" doc:"What earnings a share became"`
	Surprise *float64 `json:"surprise,omitempty" doc:"That less what was expected, over the size of this, as a fraction"`
}

// Model is what a share is worth by what it will pay.
type Model struct {
	Listing
	Of          string       `json:"of" enum:"cash,earnings,dividends,gordon"`
	Assumptions []Assumption `json:"assumptions"`
	Saved       *time.Time   `json:"saved,omitempty" doc:"When assumptions were saved with the name, where they are in it"`
	Refused     string       `json:"refused,omitempty" doc:"Why the model cannot apply"`
	Value       *float64     `json:"value,omitempty" doc:"Of a share, in the currency of the listing"`
	Parts       *ModelParts  `json:"parts,omitempty"`
	Price       *float64     `json:"price,omitempty" doc:"Latest price"`
	Distance    *float64     `json:"distance,omitempty" doc:"Value over price, less one"`
	Implied     *float64     `json:"implied_growth,omitempty" doc:"Growth of the first stage at which the value is the price"`
	Grid        *ModelGrid   `json:"grid,omitempty" doc:"The value under other discount rates and growths"`
}

// Assumption is one number that a model rests on.
type Assumption struct {
	Name   string   `json:"name" enum:"base,growth,years,growth2,years2,terminal,discount"`
	Value  *float64 `json:"value"`
	Unit   string   `json:"unit" doc:"percent (as a fraction), years, or a currency"`
	Origin string   `json:"origin" doc:"Where it is from"`
	Yours  bool     `json:"yours" doc:"Given by the caller"`
}

// ModelSaved are assumptions that are kept with a name.
type ModelSaved struct {
	Of          string             `json:"of" enum:"cash,earnings,dividends,gordon"`
	Assumptions map[string]float64 `json:"assumptions" doc:"By name, rates as fractions; those left out follow the history"`
}

// ModelParts are the present values of what comes in each stage.
type ModelParts struct {
	Stage1   float64 `json:"stage1"`
	Stage2   float64 `json:"stage2"`
	Terminal float64 `json:"terminal"`
}

// ModelGrid is a value for each discount rate, a row, by each growth, a column.
type ModelGrid struct {
	Discounts []float64    `json:"discounts"`
	Growths   []float64    `json:"growths"`
	Values    [][]*float64 `json:"values"`
}

// Conflicts are values of which two accounts differ.
type Conflicts struct {
	Watchlist string     `json:"watchlist"`
	Tolerance float64    `json:"tolerance" doc:"For computed ratios, a fraction of the larger; sources of one field may differ by one per cent"`
	Conflicts []Conflict `json:"conflicts"`
}

// Conflict is a value of which two accounts differ.
type Conflict struct {
	Symbol string `json:"symbol"`
	Name   string `json:"name"`
	Field  string `json:"field"`
	Cell   Cell   `json:"cell"`
	Theirs string `json:"their_field,omitempty" doc:"The vendor's own ratio; none where another source gives the same field"`
	Other  *Cell  `json:"other,omitempty" doc:"Its value"`
}

// Token is a key to the service, shown once.
type Token struct {
	Token string `json:"token"`
	Label string `json:"label"`
	Scope string `json:"scope"`
}

// PriceBars are bars as columns of equal length. Columns that were not asked for
// are left out; a number is null on a day without a bar.
type PriceBars struct {
	Date    []string   `json:"date" doc:"Day of the session; of a longer bar its last one"`
	Open    []*float64 `json:"open,omitempty"`
	High    []*float64 `json:"high,omitempty"`
	Low     []*float64 `json:"low,omitempty"`
	Close   []*float64 `json:"close,omitempty"`
	Volume  []*float64 `json:"volume,omitempty"`
	Partial []int      `json:"partial,omitempty" doc:"Indices of bars whose stretch has sessions still to come, or before the history"`
	Carried []int      `json:"carried,omitempty" doc:"Indices of days without a bar, whose numbers are those of the last one before"`
}

// PriceHole is a session without a bar.
type PriceHole struct {
	Date    string `json:"date"`
	Because string `json:"because" enum:"no trade,no data" doc:"no trade: the source was asked for the day and has nothing"`
}

// PriceSplit is a split within the days asked for.
type PriceSplit struct {
	Date  string  `json:"date"`
	Ratio float64 `json:"ratio"`
}

// PriceSeries are the bars of one listing.
type PriceSeries struct {
	Listing
	State       string       `json:"state" enum:"fresh,stale,missing,pending"`
	Reason      string       `json:"reason,omitempty"`
	Detail      string       `json:"detail,omitempty"`
	Flags       []string     `json:"flags,omitempty"`
	Source      string       `json:"source,omitempty"`
	Observed    *time.Time   `json:"observed,omitempty" doc:"The instant that the newest bar describes"`
	Fetched     *time.Time   `json:"fetched,omitempty"`
	Provisional bool         `json:"provisional,omitempty" doc:"The last bar holds today's quote"`
	Bars        PriceBars    `json:"bars"`
	Holes       []PriceHole  `json:"holes,omitempty"`
	Splits      []PriceSplit `json:"splits,omitempty"`
	Dividends   []Dividend   `json:"dividends,omitempty"`
	Remarks     []string     `json:"remarks,omitempty"`
}

// Prices are the bars of listings through time.
type Prices struct {
	From   string        `json:"from"`
	To     string        `json:"to"`
	Every  string        `json:"every"`
	Adjust string        `json:"adjust"`
	Series []PriceSeries `json:"series"`
}

// Dividend is one cash dividend of a listing.
type Dividend struct {
	Ex       string  `json:"ex_date"`
	Record   string  `json:"record_date,omitempty"`
	Pay      string  `json:"pay_date,omitempty"`
	Declared string  `json:"declared_date,omitempty"`
	Amount   float64 `json:"amount" doc:"For one share of its day, as paid"`
	Adjusted float64 `json:"adjusted" doc:"The same in today's shares"`
	Currency string  `json:"currency"`
	Kind     string  `json:"kind" enum:"regular,special,return_of_capital"`
	Expected bool    `json:"expected,omitempty" doc:"Not announced: what the rhythm of the last year lets expect"`
}

// DividendYear totals the dividends of a calendar year, for one of today's shares.
type DividendYear struct {
	Year     int     `json:"year"`
	Regular  float64 `json:"regular"`
	Special  float64 `json:"special,omitempty"`
	Capital  float64 `json:"return_of_capital,omitempty"`
	Payments int     `json:"payments"`
	Growth   *Cell   `json:"growth,omitempty" doc:"Of the regular ones against the year before"`
	Partial  bool    `json:"partial,omitempty" doc:"The year is not over"`
}

// Dividends are the dividends of one listing.
type Dividends struct {
	Listing
	State   string         `json:"state" enum:"fresh,stale,missing,pending"`
	Reason  string         `json:"reason,omitempty"`
	Detail  string         `json:"detail,omitempty"`
	Source  string         `json:"source,omitempty"`
	Fetched *time.Time     `json:"fetched,omitempty"`
	History []Dividend     `json:"history" doc:"The newest first"`
	Coming  []Dividend     `json:"coming" doc:"Announced or expected within a year"`
	Years   []DividendYear `json:"years" doc:"The newest first"`
	Overdue string         `json:"overdue,omitempty" doc:"An ex-date that the usual rhythm asked for, passed more than 20 days ago"`
}

// IncomeSum is an amount in one currency.
type IncomeSum struct {
	Currency string  `json:"currency"`
	Amount   float64 `json:"amount"`
	Expected float64 `json:"expected" doc:"The part of it that is not announced"`
}

// IncomeMonth is what a calendar month pays.
type IncomeMonth struct {
	Month string      `json:"month" doc:"As 2026-12"`
	Sums  []IncomeSum `json:"sums" doc:"By currency"`
}

// IncomeName is what one holding pays within the year.
type IncomeName struct {
	Listing
	Quantity float64  `json:"quantity"`
	Paid     string   `json:"paid_in" doc:"Currency of the amount"`
	Amount   float64  `json:"amount"`
	OnCost   *float64 `json:"yield_on_cost,omitempty" doc:"Over what was paid for the holding"`
	Payments int      `json:"payments"`
	State    string   `json:"state" enum:"fresh,stale,missing,pending"`
	Reason   string   `json:"reason,omitempty"`
	Detail   string   `json:"detail,omitempty"`
}

// IncomePayment is one dividend of one holding.
type IncomePayment struct {
	On       string  `json:"on" doc:"Day of payment; the ex-date where that is not known"`
	Ex       string  `json:"ex_date"`
	Symbol   string  `json:"symbol"`
	Name     string  `json:"name"`
	PerShare float64 `json:"per_share" doc:"In the currency of the listing"`
	Quantity float64 `json:"quantity"`
	Amount   float64 `json:"amount"`
	Currency string  `json:"currency"`
	Kind     string  `json:"kind" enum:"regular,special,return_of_capital,coupon"`
	Expected bool    `json:"expected,omitempty" doc:"Not announced: what the rhythm of the last year lets expect"`
}

// Income is what the holdings of a list will pay within a year.
type Income struct {
	Watchlist string          `json:"watchlist"`
	From      string          `json:"from"`
	To        string          `json:"to"`
	In        string          `json:"in,omitempty"`
	Total     []IncomeSum     `json:"total" doc:"By currency"`
	Months    []IncomeMonth   `json:"months"`
	Names     []IncomeName    `json:"names"`
	Payments  []IncomePayment `json:"payments"`
}
