package xbrl

import (
	"encoding/json"
	"fmt"
	"io"
	"maps"
	"math"
	"slices"
	"strings"
)

// readJSON reads a document in JSON. It is decoded fact by fact.
func readJSON(in io.Reader, limits Limits) (*Document, error) {
	r := &jsonReader{Decoder: json.NewDecoder(in), limits: limits, about: map[string]string{}}
	if err := r.members(func(name string) error {
		switch name {
		case "documentInfo":
			return r.Decode(&r.info)
		case "facts":
			return r.members(r.fact)
		}
		var other json.RawMessage
		return r.Decode(&other)
	}); err != nil {
		return nil, fmt.Errorf("not xBRL-JSON: %w", err)
	}
	if !strings.HasSuffix(r.info.DocumentType, "/xbrl-json") {
		return nil, fmt.Errorf("%w: its document type is %q", errForm, r.info.DocumentType)
	}
	return r.finish()
}

type jsonReader struct {
	*json.Decoder
	limits Limits
	info   struct {
		DocumentType string            `json:"documentType"`
		Namespaces   map[string]string `json:"namespaces"`
	}
	facts []jsonFact
	about map[string]string
}

type jsonFact struct {
	id         string
	Value      *string           `json:"value"`
	Decimals   *int              `json:"decimals"`
	Dimensions map[string]string `json:"dimensions"`
}

// members hands over the members of an object one by one.
func (r *jsonReader) members(each func(name string) error) error {
	if token, err := r.Token(); err != nil {
		return err
	} else if token != json.Delim('{') {
		return fmt.Errorf("there is %v instead of an object", token)
	}
	for r.More() {
		name, err := r.Token()
		if err != nil {
			return err
		}
		if err := each(name.(string)); err != nil { // a member's name is a text, or the decoder fails
			return err
		}
	}
	_, err := r.Token()
	return err
}

func (r *jsonReader) fact(id string) error {
	if len(r.facts) >= r.limits.Facts {
		return fmt.Errorf("%w: more than %d", ErrTooMany, r.limits.Facts)
	}
	var text json.RawMessage
	if err := r.Decode(&text); err != nil {
		return err
	}
	f := jsonFact{id: id}
	if err := json.Unmarshal(text, &f); err != nil {
		return fmt.Errorf("fact %s: %w", id, err)
	}
	if f.Value != nil && len(*f.Value) <= longestValue {
		r.facts = append(r.facts, f)
	}
	return nil
}

// named is the canonical form of a name.
func (r *jsonReader) named(qualified string) string {
	prefix, name, _ := strings.Cut(qualified, ":")
	if usual := taxonomy(r.info.Namespaces[prefix]); usual != "" {
		prefix = usual
	}
	return prefix + ":" + name
}

// bare is a name without its prefix.
func bare(qualified string) string {
	if _, name, found := strings.Cut(qualified, ":"); found {
		return name
	}
	return qualified
}

func (r *jsonReader) finish() (*Document, error) {
	out := raw{about: r.about}
	for _, f := range r.facts {
		e := entry{value: strings.TrimSpace(*f.Value), decimals: math.Inf(1), place: "fact " + f.id, concept: r.named(f.Dimensions["concept"])}
		if f.Decimals != nil {
			e.decimals = float64(*f.Decimals)
		}
		e.of.entity = bare(f.Dimensions["entity"])
		if unit := f.Dimensions["unit"]; unit != "" {
			e.unit = unitIn(unit)
		} else {
			if r.about[e.concept] == "" {
				r.about[e.concept] = e.value
			}
			continue
		}
		when := f.Dimensions["period"]
		first, end, lasts := strings.Cut(when, "/")
		var err error
		if !lasts {
			end = first
		} else if e.of.first, err = firstDay(first); err != nil {
			return nil, fmt.Errorf("fact %s: %w", f.id, err)
		}
		if e.of.end, err = lastDay(end); err != nil {
			if when != "" {
				return nil, fmt.Errorf("fact %s: %w", f.id, err)
			}
			e.of.other = true // it is of no time
		}
		for _, axis := range slices.Sorted(maps.Keys(f.Dimensions)) {
			if strings.Contains(axis, ":") {
				e.of.along(r.named(axis), r.named(f.Dimensions[axis]))
			}
		}
		if out.about["entity"] == "" {
			out.about["entity"] = e.of.entity
		}
		out.facts = append(out.facts, e)
	}
	return out.assemble()
}

// unitIn reads a unit as iso4217:EUR/xbrli:shares.
func unitIn(text string) string {
	parts := func(side string) (out []string) {
		for _, m := range strings.Split(strings.Trim(side, "()"), "*") {
			out = append(out, bare(m))
		}
		return out
	}
	over, under, divided := strings.Cut(text, "/")
	if !divided {
		return unitOf(parts(over), nil)
	}
	return unitOf(parts(over), parts(under))
}
