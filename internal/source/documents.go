package source

import (
	"context"
	"fmt"
	"net/url"
	"slices"

	"soba.invalid/soba/internal/source/format"
)

// listedDocument is a document that an index names.
type listedDocument struct {
	link string
	row  format.Row
}

// filings asks for an index and for the documents that it names. One that cannot be
// read is said and passed over, unless all are.
func (s *Source) filings(ctx context.Context, c *Call, a *Answer, d *decoder, first ask, turn func(context.Context) error) error {
	first.kind = c.Documents.Format.Kind
	var documents []listedDocument
	base := ""
	if err := s.page(ctx, c, a, first, func(doc *document) (err error) {
		base = doc.base
		documents, err = s.documents(doc, c)
		return err
	}); err != nil || a.Same {
		return err
	}
	a.indexed = true
	var failed error
	read := 0
	for _, named := range documents {
		if err := turn(ctx); err != nil {
			return err
		}
		link, err := resolved(base, named.link)
		if err != nil {
			return err
		}
		d.index = named.row
		err = s.page(ctx, c, a, ask{link: link, kind: c.Format.Kind}, func(doc *document) error {
			_, err := d.read(doc, len(a.Pages))
			return err
		})
		if f, ok := err.(*Fault); ok && f.Kind == Malformed && a.Last().Size > 0 { //nolint:errorlint // page returns it as it is
			failed, d.partial = err, fmt.Sprintf("%s could not be read: %s", named.link, f.Detail)
			d.remark("%s", d.partial)
			continue
		}
		if err != nil {
			return err
		}
		read++
	}
	if read == 0 {
		return failed
	}
	return nil
}

func resolved(base, link string) (string, error) {
	from, err := url.Parse(base)
	if err == nil {
		var to *url.URL
		if to, err = from.Parse(link); err == nil {
			return to.String(), nil
		}
	}
	return "", &Fault{Kind: Malformed, Detail: fmt.Sprintf("the link to a document, %q, is no address", link)}
}

// documents reads an index.
func (s *Source) documents(doc *document, c *Call) (out []listedDocument, err error) {
	x := c.compiled.index
	limits := format.Limits{Rows: s.Limits.Records, Depth: deepest}
	_, err = format.Read(doc, doc.contentType, &c.Documents.Format, []format.Selection{{Rows: x.rows}}, true, limits, func(_ int, row format.Row) error {
		link, nature := row.At(x.link)
		wanted := !slices.ContainsFunc(x.where, func(w condition) bool { text, _ := row.At(w.at); return text != w.want })
		if nature == format.Text && wanted && len(out) < x.most {
			out = append(out, listedDocument{link, row})
		}
		return nil
	})
	return out, err
}
