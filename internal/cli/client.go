package cli

import (
	"bufio"
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/url"
	"strings"
	"time"

	"soba.invalid/soba/internal/wire"
)

// client talks to the service, over HTTP and nothing else.
type client struct {
	server string
	token  string
	http   *http.Client
}

func newClient(server, token string) *client {
	return &client{strings.TrimRight(server, "/"), token, &http.Client{Timeout: 60 * time.Second}}
}

// errUnreachable says that no service answers.
type errUnreachable struct {
	server string
	err    error
}

func (e *errUnreachable) Error() string {
	return fmt.Sprintf("no service answers at %s (%v)\nStart one with 'soba demo' or 'soba serve', or name another with --server.", e.server, e.err)
}

func (c *client) send(ctx context.Context, method, path string, query url.Values, header http.Header, in any) (*http.Response, error) {
	var body io.Reader
	if file, raw := in.([]byte); raw {
		body = bytes.NewReader(file)
	} else if in != nil {
		b, err := json.Marshal(in)
		if err != nil {
			return nil, err
		}
		body = bytes.NewReader(b)
	}
	address := c.server + path
	if len(query) > 0 {
		address += "?" + query.Encode()
	}
	request, err := http.NewRequestWithContext(ctx, method, address, body)
	if err != nil {
		return nil, err
	}
	for name, values := range header {
		request.Header[name] = values
	}
	if in != nil && request.Header.Get("Content-Type") == "" {
		request.Header.Set("Content-Type", "application/json")
	}
	if c.token != "" {
		request.Header.Set("Authorization", "Bearer "+c.token)
	}
	response, err := c.http.Do(request)
	if err != nil {
		var op *net.OpError
		if errors.As(err, &op) {
			return nil, &errUnreachable{c.server, op.Err}
		}
		return nil, err
	}
	if response.StatusCode >= 400 {
		defer response.Body.Close()
		text, _ := io.ReadAll(io.LimitReader(response.Body, 1<<20)) // what can be read of it
		var p wire.Problem
		if json.Unmarshal(text, &p) == nil && p.Detail != "" {
			return nil, &p
		}
		return nil, fmt.Errorf("the service answers %s: %.200s", response.Status, text)
	}
	return response, nil
}

// call sends a request and reads the answer's JSON.
func call[T any](ctx context.Context, c *client, method, path string, query url.Values, in any) (T, error) {
	var out T
	response, err := c.send(ctx, method, path, query, nil, in)
	if err != nil {
		return out, err
	}
	defer response.Body.Close()
	if response.StatusCode == http.StatusNoContent {
		return out, nil
	}
	if err := json.NewDecoder(response.Body).Decode(&out); err != nil {
		return out, fmt.Errorf("the service's answer cannot be read: %w", err)
	}
	return out, nil
}

// upload sends a file as it is and reads the answer's JSON.
func upload[T any](ctx context.Context, c *client, path string, query url.Values, contentType string, file []byte) (T, error) {
	var out T
	response, err := c.send(ctx, http.MethodPost, path, query, http.Header{"Content-Type": {contentType}}, file)
	if err != nil {
		return out, err
	}
	defer response.Body.Close()
	if err := json.NewDecoder(response.Body).Decode(&out); err != nil {
		return out, fmt.Errorf("the service's answer cannot be read: %w", err)
	}
	return out, nil
}

func get[T any](ctx context.Context, c *client, path string, query url.Values) (T, error) {
	return call[T](ctx, c, http.MethodGet, path, query, nil)
}

// raw reads an answer as it is.
func (c *client) raw(ctx context.Context, path string, query url.Values, accept string) ([]byte, error) {
	response, err := c.send(ctx, http.MethodGet, path, query, http.Header{"Accept": {accept}}, nil)
	if err != nil {
		return nil, err
	}
	defer response.Body.Close()
	return io.ReadAll(response.Body)
}

// follow reads the events of a refresh until it is over, coming back with the
// last one it has seen when the connection is lost.
func (c *client) follow(ctx context.Context, id int64, each func(wire.Event)) error {
	last := ""
	for tries := 0; ; tries++ {
		over, seen, err := c.listen(ctx, id, last, each)
		if over || ctx.Err() != nil {
			return ctx.Err()
		}
		if seen != last {
			last, tries = seen, 0
		}
		if tries > 5 {
			return err
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(time.Duration(tries+1) * 200 * time.Millisecond):
		}
	}
}

func (c *client) listen(ctx context.Context, id int64, last string, each func(wire.Event)) (over bool, seen string, err error) {
	patient := *c
	patient.http = &http.Client{} // a stream may last
	header := http.Header{"Accept": {"text/event-stream"}}
	if last != "" {
		header.Set("Last-Event-ID", last)
	}
	response, err := patient.send(ctx, http.MethodGet, fmt.Sprintf("/api/v1/refreshes/%d/events", id), nil, header, nil)
	if err != nil {
		return false, last, err
	}
	defer response.Body.Close()
	scan := bufio.NewScanner(response.Body)
	for scan.Scan() {
		line := scan.Text()
		if number, found := strings.CutPrefix(line, "id: "); found {
			last = number
		}
		if data, found := strings.CutPrefix(line, "data: "); found {
			var e wire.Event
			if err := json.Unmarshal([]byte(data), &e); err != nil {
				return false, last, err
			}
			each(e)
			over = over || e.Kind == "finished"
		}
	}
	return over, last, scan.Err()
}

func listPath(name, rest string) string { return "/api/v1/watchlists/" + url.PathEscape(name) + rest }

func symbolPath(symbol string) string { return url.PathEscape(strings.ReplaceAll(symbol, "/", "-")) }
