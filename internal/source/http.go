package source

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/url"
	"strconv"
	"strings"
	"time"
)

// Limits bound one call.
type Limits struct {
	Timeout time.Duration
	Bytes   int64 // of the decompressed answer
}

// StandardLimits suit a vendor's batch request.
var StandardLimits = Limits{Timeout: 20 * time.Second, Bytes: 64 << 20}

// Get calls an address and reads the whole answer within the limits. Headers
// may hold secrets and are not recorded. Any status but 200 leaves fault nil
// and is the caller's to judge, save 429 and 5xx, which mean the same everywhere.
func Get(ctx context.Context, client *http.Client, address string, header http.Header, limits Limits) (*Answer, http.Header, error) {
	a := &Answer{Call: Call{Address: address, Started: time.Now(), UnitsLeft: -1}}
	defer func() { a.Call.Took = time.Since(a.Call.Started) }()
	ctx, cancel := context.WithTimeout(ctx, limits.Timeout)
	defer cancel()
	request, err := http.NewRequestWithContext(ctx, http.MethodGet, address, nil)
	if err != nil {
		return a, nil, &Fault{Kind: Refused, Detail: err.Error()}
	}
	request.Header = header
	response, err := client.Do(request)
	if err != nil {
		return a, nil, callFault(ctx, err, limits)
	}
	defer response.Body.Close()
	a.Call.Status, a.ContentType = response.StatusCode, response.Header.Get("Content-Type")
	a.Body, err = io.ReadAll(io.LimitReader(response.Body, limits.Bytes+1))
	switch {
	case err != nil:
		return a, nil, callFault(ctx, err, limits)
	case int64(len(a.Body)) > limits.Bytes:
		a.Body = nil
		return a, nil, &Fault{Kind: TooLarge, Status: response.StatusCode, Detail: fmt.Sprintf("more than %d MiB", limits.Bytes>>20)}
	}
	wait := retryAfter(response.Header.Get("Retry-After"))
	switch {
	case response.StatusCode == http.StatusTooManyRequests:
		return a, response.Header, &Fault{Kind: Throttled, Status: 429, Detail: excerpt(a.Body), RetryAfter: wait}
	case response.StatusCode >= 500:
		return a, response.Header, &Fault{Kind: ServerFailed, Status: response.StatusCode, Detail: excerpt(a.Body), RetryAfter: wait}
	}
	return a, response.Header, nil
}

func callFault(ctx context.Context, err error, limits Limits) *Fault {
	var timeout net.Error
	var asURL *url.Error
	if errors.As(err, &asURL) {
		err = asURL.Err // without the address, which the call already records
	}
	switch {
	case errors.Is(ctx.Err(), context.DeadlineExceeded), errors.As(err, &timeout) && timeout.Timeout():
		return &Fault{Kind: TimedOut, Detail: "no answer within " + limits.Timeout.String()}
	case errors.Is(err, io.ErrUnexpectedEOF):
		return &Fault{Kind: Truncated, Detail: "the connection closed before the answer was whole"}
	}
	return &Fault{Kind: Unreachable, Detail: err.Error()}
}

// retryAfter reads the header in either of its forms (RFC 9110, 10.2.3).
func retryAfter(text string) time.Duration {
	if seconds, err := strconv.Atoi(text); err == nil {
		return time.Duration(seconds) * time.Second
	}
	if at, err := http.ParseTime(text); err == nil {
		return max(0, time.Until(at))
	}
	return 0
}

// excerpt is the beginning of an answer on one line, for an error message.
func excerpt(body []byte) string {
	text := strings.Join(strings.Fields(string(body[:min(len(body), 400)])), " ")
	if r := []rune(text); len(r) > 160 {
		text = string(r[:160]) + "…"
	}
	return text
}

// Excerpt is the beginning of the answer's body on one line.
func (a *Answer) Excerpt() string { return excerpt(a.Body) }
