package source

import (
	"time"

	"soba.invalid/soba/internal/core/catalogue"
	"soba.invalid/soba/internal/core/market"
	"soba.invalid/soba/internal/source/clean"
	"soba.invalid/soba/internal/source/format"
)

// Description describes a source: how it is reached, how it writes symbols, and
// for each call what it serves, how it is asked, and where in its answers the
// values stand. It is what a YAML file under sources/ holds.
type Description struct {
	// Name by which the source is known: lower-case letters, digits and hyphens.
	Name string `yaml:"name" json:"name" jsonschema:"pattern=^[a-z][a-z0-9-]*$"`
	// Title shown to people.
	Title string `yaml:"title" json:"title"`
	// Licence under which its data may be used, in a sentence.
	Licence string `yaml:"licence,omitempty" json:"licence,omitempty"`
	// Homepage of the vendor.
	Homepage string `yaml:"homepage,omitempty" json:"homepage,omitempty"`
	// Delay by which its quotes are held back, as 15m.
	Delay time.Duration `yaml:"delay,omitempty" json:"delay,omitempty"`
	// Access says how the source is reached.
	Access Access `yaml:"access" json:"access"`
	// Limits that the source sets, and that Soba sets it.
	Limits Limits `yaml:"limits,omitempty" json:"limits,omitempty"`
	// Symbols says how the source writes a listing.
	Symbols Symbols `yaml:"symbols,omitempty" json:"symbols,omitempty"`
	// Replies says how the source explains that it does not answer with data.
	Replies Replies `yaml:"replies,omitempty" json:"replies,omitempty"`
	// Clean are the rules for its numbers, unless a call has its own.
	Clean clean.Rules `yaml:"clean,omitempty" json:"clean,omitempty"`
	// Calls are the ways of asking it.
	Calls []*Call `yaml:"calls" json:"calls" jsonschema:"minItems=1"`
}

// Access says how a source is reached: over HTTP at an address, or as a folder
// of files.
type Access struct {
	// Address that the paths of calls are joined to, as https://data.example/v2.
	Address string `yaml:"address,omitempty" json:"address,omitempty"`
	// Folder of files, instead of an address. Paths of calls are patterns in it.
	Folder string `yaml:"folder,omitempty" json:"folder,omitempty"`
	// Private allows an address in a private network or on this machine.
	Private bool `yaml:"private,omitempty" json:"private,omitempty"`
	// Key says where the key goes. The key itself is a secret and never stands here.
	Key *Key `yaml:"key,omitempty" json:"key,omitempty"`
	// Headers sent with every request.
	Headers map[string]string `yaml:"headers,omitempty" json:"headers,omitempty"`
	// Proxy that requests go through.
	Proxy string `yaml:"proxy,omitempty" json:"proxy,omitempty"`
	// Authorities is a file of certificates to trust besides the system's.
	Authorities string `yaml:"authorities,omitempty" json:"authorities,omitempty"`
}

// Key says where a source wants its key.
type Key struct {
	// In is the place of the key: a header, a query parameter, the bearer token, or
	// the password of basic authentication.
	In string `yaml:"in" json:"in" jsonschema:"enum=header,enum=query,enum=bearer,enum=basic"`
	// Name of the header or the parameter, or the user of basic authentication.
	Name string `yaml:"name,omitempty" json:"name,omitempty"`
	// Optional says that the source answers without a key too.
	Optional bool `yaml:"optional,omitempty" json:"optional,omitempty"`
}

// Limits bound how a source is asked and what it may answer.
type Limits struct {
	// PerSecond is how many requests a second it takes; any number when left out.
	PerSecond float64 `yaml:"per_second,omitempty" json:"per_second,omitempty" jsonschema:"minimum=0"`
	// AtOnce is how many requests it takes at the same time; one when left out.
	AtOnce int `yaml:"at_once,omitempty" json:"at_once,omitempty" jsonschema:"minimum=0"`
	// UnitsPerDay is the daily allowance; none when left out.
	UnitsPerDay int `yaml:"units_per_day,omitempty" json:"units_per_day,omitempty" jsonschema:"minimum=0"`
	// DayStarts is when the allowance starts anew: a time of day, midnight when left out.
	DayStarts string `yaml:"day_starts,omitempty" json:"day_starts,omitempty"`
	// DayZone is the time zone of that; UTC when left out.
	DayZone string `yaml:"day_zone,omitempty" json:"day_zone,omitempty"`
	// Timeout of one request, 20s when left out.
	Timeout time.Duration `yaml:"timeout,omitempty" json:"timeout,omitempty"`
	// LongestWait is how long a Retry-After is obeyed; a request that is told to wait longer fails. One minute when left out.
	LongestWait time.Duration `yaml:"longest_wait,omitempty" json:"longest_wait,omitempty"`
	// LargestMiB is the largest answer in MiB, unpacked; 64 when left out.
	LargestMiB int `yaml:"largest_mib,omitempty" json:"largest_mib,omitempty" jsonschema:"minimum=0"`
	// Records is how many records an answer may hold; two million when left out.
	Records int `yaml:"records,omitempty" json:"records,omitempty" jsonschema:"minimum=0"`
}

// Symbols says how a source writes listings.
type Symbols struct {
	// Write is a template over {ticker}, {exchange}, {isin} and {code}; {ticker}.{exchange}
	// when left out. A source that gives pair alone has only pairs.
	Write string `yaml:"write,omitempty" json:"write,omitempty"`
	// Pair is a template over {base} and {quote}. A source without it has no pairs.
	Pair string `yaml:"pair,omitempty" json:"pair,omitempty"`
	// PairBase is the currency that all pairs of the source are of, where the template names only the other.
	PairBase string `yaml:"pair_base,omitempty" json:"pair_base,omitempty"`
	// Exchanges translates exchange codes into the source's own. A source that gives them has no others.
	Exchanges map[string]string `yaml:"exchanges,omitempty" json:"exchanges,omitempty"`
	// PairExchange is what stands for the exchange of pairs, where a call takes one.
	PairExchange string `yaml:"pair_exchange,omitempty" json:"pair_exchange,omitempty"`
	// Codes are the source's own codes by symbol. A source that gives them has no other listings.
	Codes map[string]string `yaml:"codes,omitempty" json:"codes,omitempty"`
}

// Replies says how a source explains itself when it does not answer with data.
type Replies struct {
	// Message is where its explanation stands.
	Message string `yaml:"message,omitempty" json:"message,omitempty"`
	// Culprits is where it names the symbols for which it refused a batch.
	Culprits string `yaml:"culprits,omitempty" json:"culprits,omitempty"`
	// Error is where an answer with status 200 says that it is none.
	Error string `yaml:"error,omitempty" json:"error,omitempty"`
	// Means says what a status or an error code means: key_refused, plan_lacks,
	// allowance_spent, unknown_symbol, throttled, moved, server_failed or refused.
	Means map[string]string `yaml:"means,omitempty" json:"means,omitempty"`
	// UnitsSpent is the header that says what a request cost.
	UnitsSpent string `yaml:"units_spent,omitempty" json:"units_spent,omitempty"`
	// UnitsLeft is the header that says what is left of the allowance.
	UnitsLeft string `yaml:"units_left,omitempty" json:"units_left,omitempty"`
}

// Call is one way of asking a source.
type Call struct {
	// Name of the call; that of the first dataset it serves when left out.
	Name string `yaml:"name,omitempty" json:"name,omitempty"`
	// Serves lists the datasets that one request brings.
	Serves []catalogue.Dataset `yaml:"serves" json:"serves" jsonschema:"minItems=1"`
	// Kinds of listings that it serves; all when left out.
	Kinds []market.Kind `yaml:"kinds,omitempty" json:"kinds,omitempty"`
	// Path of the request, or patterns of file names separated by spaces (a space in a
	// name is written ?), with {symbols}, {symbol},
	// {exchange}, {from}, {to} and {day} replaced.
	Path string `yaml:"path" json:"path"`
	// Query are the parameters of the request, with the same replaced.
	Query map[string]string `yaml:"query,omitempty" json:"query,omitempty"`
	// Takes is what a request asks for: a list of symbols, all of an exchange, or an
	// exchange on one day; symbols when left out.
	Takes string `yaml:"takes,omitempty" json:"takes,omitempty" jsonschema:"enum=symbols,enum=exchange,enum=day"`
	// Batch bounds the list of symbols of a request.
	Batch Batch `yaml:"batch,omitempty" json:"batch,omitempty"`
	// Days is the longest range of a request in days; any when left out.
	Days int `yaml:"days,omitempty" json:"days,omitempty" jsonschema:"minimum=0"`
	// Dates is the pattern in which dates are written; YYYY-MM-DD when left out.
	Dates string `yaml:"dates,omitempty" json:"dates,omitempty"`
	// Cost of a request in units.
	Cost Cost `yaml:"cost,omitempty" json:"cost,omitempty"`
	// Paging says how an answer that comes in pages goes on.
	Paging *Paging `yaml:"paging,omitempty" json:"paging,omitempty"`
	// Otherwise names the call to fall back on for listings that this one has nothing of.
	Otherwise string `yaml:"otherwise,omitempty" json:"otherwise,omitempty"`
	// Fallback marks a call that is only made for want of another.
	Fallback bool `yaml:"fallback,omitempty" json:"fallback,omitempty"`
	// Standalone flags its values as from accounts that are not consolidated.
	Standalone bool `yaml:"standalone,omitempty" json:"standalone,omitempty"`
	// Format of the answer.
	Format format.Options `yaml:"format" json:"format"`
	// Documents says that what is asked for is an index of the documents in which the
	// records stand, each of which is then asked for.
	Documents *Documents `yaml:"documents,omitempty" json:"documents,omitempty"`
	// Clean are the rules for its numbers; the source's when left out.
	Clean *clean.Rules `yaml:"clean,omitempty" json:"clean,omitempty"`
	// Parts say where in the answer what stands.
	Parts []*Part `yaml:"parts" json:"parts" jsonschema:"minItems=1"`
	// Unknown is where the answer lists symbols that the source does not carry.
	Unknown string `yaml:"unknown,omitempty" json:"unknown,omitempty"`
	// Errors is where the answer says what went wrong with single symbols.
	Errors *Errors `yaml:"errors,omitempty" json:"errors,omitempty"`

	compiled *compiled
}

// Batch bounds the list of symbols of a request.
type Batch struct {
	// Symbols is the largest number of them; one when left out.
	Symbols int `yaml:"symbols,omitempty" json:"symbols,omitempty" jsonschema:"minimum=0"`
	// Length is the most characters that they may take in the address, separators included.
	Length int `yaml:"length,omitempty" json:"length,omitempty" jsonschema:"minimum=0"`
	// Separator between them; a comma when left out.
	Separator string `yaml:"separator,omitempty" json:"separator,omitempty"`
}

// Cost of a request in units of the daily allowance.
type Cost struct {
	// Request is what each request costs.
	Request int `yaml:"request,omitempty" json:"request,omitempty" jsonschema:"minimum=0"`
	// Symbol is what each symbol in it costs besides.
	Symbol int `yaml:"symbol,omitempty" json:"symbol,omitempty" jsonschema:"minimum=0"`
}

// Paging says how the next page of an answer is asked for.
type Paging struct {
	// By is what leads to the next page: a cursor, a page number, or a link.
	By string `yaml:"by" json:"by" jsonschema:"enum=cursor,enum=page,enum=link"`
	// Next is where the cursor or link stands in the answer; the Link header (RFC 8288) when left out.
	Next string `yaml:"next,omitempty" json:"next,omitempty"`
	// Parameter of the query that takes the cursor or the page number.
	Parameter string `yaml:"parameter,omitempty" json:"parameter,omitempty"`
	// Pages is where the answer says how many pages there are; without it the first empty page is the last.
	Pages string `yaml:"pages,omitempty" json:"pages,omitempty"`
	// Most pages that are read; 100 when left out.
	Most int `yaml:"most,omitempty" json:"most,omitempty" jsonschema:"minimum=0"`
}

// Documents says how an index names the documents that hold the records.
type Documents struct {
	// Format of the index: JSON, XML or CSV.
	Format format.Options `yaml:"format" json:"format"`
	// Rows is the path to the documents in JSON or XML.
	Rows string `yaml:"rows,omitempty" json:"rows,omitempty"`
	// Where keeps only the documents with these values.
	Where map[string]string `yaml:"where,omitempty" json:"where,omitempty"`
	// Link is where the address of a document stands, which may be relative to that of the index.
	Link string `yaml:"link" json:"link"`
	// Most documents that are read, the first of the index; 20 when left out.
	Most int `yaml:"most,omitempty" json:"most,omitempty" jsonschema:"minimum=0"`
}

// Part says where in an answer the records of one dataset stand.
type Part struct {
	// Dataset of the records; the one the call serves when left out.
	Dataset catalogue.Dataset `yaml:"dataset,omitempty" json:"dataset,omitempty"`
	// Rows is the path to the records in JSON or XML.
	Rows string `yaml:"rows,omitempty" json:"rows,omitempty"`
	// Table finds the table of records in HTML and XLSX.
	Table format.Table `yaml:"table,omitempty" json:"table,omitempty"`
	// Within is the path from a record to the records inside it, as from a listing to its bars.
	Within string `yaml:"within,omitempty" json:"within,omitempty"`
	// Where keeps only the records with these values.
	Where map[string]string `yaml:"where,omitempty" json:"where,omitempty"`
	// Symbol is where a record names its listing; without it, it is the only one asked for.
	Symbol *Pick `yaml:"symbol,omitempty" json:"symbol,omitempty"`
	// Fields says where each field of the dataset stands. In XBRL those need not be said that every document tells of.
	Fields map[string]*Pick `yaml:"fields,omitempty" json:"fields,omitempty"`
	// Lines reads records in the long form, of which each holds one value and the name of its field.
	Lines *Lines `yaml:"lines,omitempty" json:"lines,omitempty"`
}

// Lines says how records of one value each are put together: those that agree in
// the fields of the part are one.
type Lines struct {
	// Name is where a record names its value.
	Name *Pick `yaml:"name" json:"name"`
	// Value is where the value stands.
	Value *Pick `yaml:"value" json:"value"`
	// Are says which field each name is; values under other names are passed over. The
	// concepts of the public taxonomies need not be said.
	Are map[string]string `yaml:"are,omitempty" json:"are,omitempty"`

	concepts bool // of the public taxonomies are known besides
}

// Pick says where one value stands and how it is written. A plain text is short
// for one with only at.
type Pick struct {
	// At is the place within the record: a JSONPath or member name, a column header or #number, a path of element names.
	At string `yaml:"at,omitempty" json:"at,omitempty"`
	// Of says what the place is relative to, where that is not the record: the record around it, the whole document, or what the index says of the document.
	Of string `yaml:"of,omitempty" json:"of,omitempty" jsonschema:"enum=outer,enum=document,enum=index"`
	// Value is the same for every record.
	Value string `yaml:"value,omitempty" json:"value,omitempty"`
	// Match is a regular expression that the text must match; its first group is the value.
	Match string `yaml:"match,omitempty" json:"match,omitempty"`
	// Unit in which numbers stand: percent, thousands, millions, billions or hundredths (of the currency).
	Unit string `yaml:"unit,omitempty" json:"unit,omitempty" jsonschema:"enum=percent,enum=thousands,enum=millions,enum=billions,enum=hundredths"`
	// Date is the pattern of dates and times, as DD.MM.YYYY hh:mm, unix, unix_ms or serial; ISO 8601 when left out.
	Date string `yaml:"date,omitempty" json:"date,omitempty"`
	// Zone of times that name none; UTC when left out.
	Zone string `yaml:"zone,omitempty" json:"zone,omitempty"`
	// Map translates texts; "*" stands for all others.
	Map map[string]string `yaml:"map,omitempty" json:"map,omitempty"`
}

// Errors is where an answer says what went wrong with single symbols.
type Errors struct {
	// Rows is the path to the records.
	Rows string `yaml:"rows" json:"rows"`
	// Symbol is where a record names the listing.
	Symbol string `yaml:"symbol" json:"symbol"`
	// Code is where it gives a code.
	Code string `yaml:"code,omitempty" json:"code,omitempty"`
	// Message is where it explains itself.
	Message string `yaml:"message,omitempty" json:"message,omitempty"`
	// Means says what a code means: not_covered, not_permitted, not_reported or fetch_failed. "*" stands for all others.
	Means map[string]string `yaml:"means,omitempty" json:"means,omitempty"`
}

// UnmarshalYAML reads a pick in its short or its long form.
func (p *Pick) UnmarshalYAML(unmarshal func(any) error) error {
	var at string
	if unmarshal(&at) == nil {
		p.At = at
		return nil
	}
	type plain Pick
	return unmarshal((*plain)(p))
}
