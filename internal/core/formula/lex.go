package formula

import (
	"fmt"
	"strconv"
	"strings"
	"unicode"
	"unicode/utf8"
)

// A SyntaxError points at the place in a formula that cannot be read.
type SyntaxError struct {
	Text    string
	Column  int // counted from 1, in characters
	Problem string
}

func (e *SyntaxError) Error() string {
	return fmt.Sprintf("formula, column %d: %s\n  %s\n  %s^", e.Column, e.Problem, e.Text, strings.Repeat(" ", e.Column-1))
}

type tokenKind uint8

const (
	end tokenKind = iota
	number
	text
	name // a field id, with @period where one is given, a function or a word operator
	operator
)

type token struct {
	kind   tokenKind
	text   string
	num    float64
	offset int
}

func (t token) String() string {
	if t.kind == end {
		return "the end of the formula"
	}
	return strconv.Quote(t.text)
}

var suffixes = map[string]float64{"%": 0.01, "k": 1e3, "m": 1e6, "bn": 1e9}

// lex cuts a formula into tokens.
func lex(source string) ([]token, *SyntaxError) {
	var tokens []token
	for at := 0; at < len(source); {
		r, size := utf8.DecodeRuneInString(source[at:])
		rest := source[at:]
		var t token
		switch {
		case unicode.IsSpace(r):
			at += size
			continue
		case r >= '0' && r <= '9', r == '.' && len(rest) > 1 && isDigit(rest[1]):
			digits := span(rest, func(r rune) bool { return r >= '0' && r <= '9' || r == '.' })
			suffix := span(rest[digits:], unicode.IsLetter)
			if strings.HasPrefix(rest[digits:], "%") {
				suffix = 1
			}
			num, err := strconv.ParseFloat(rest[:digits], 64)
			scale, known := suffixes[rest[digits:digits+suffix]]
			if err != nil || suffix > 0 && !known {
				return nil, problem(source, at, fmt.Sprintf("%q is not a number; suffixes are %%, k, m and bn", rest[:digits+suffix]))
			}
			if suffix > 0 {
				num *= scale
			}
			t = token{number, rest[:digits+suffix], num, at}
		case r == '"', r == '\'':
			closing := strings.IndexRune(rest[1:], r)
			if closing < 0 {
				return nil, problem(source, at, "this text has no closing quotation mark")
			}
			t = token{text, rest[:closing+2], 0, at}
		case unicode.IsLetter(r):
			length := span(rest, func(r rune) bool { return unicode.IsLetter(r) || unicode.IsDigit(r) || r == '_' || r == '.' })
			if strings.HasPrefix(rest[length:], "@") {
				length++
				if strings.HasPrefix(rest[length:], "-") {
					length++
				}
				length += span(rest[length:], func(r rune) bool { return unicode.IsLetter(r) || unicode.IsDigit(r) || r == '-' || r == '+' })
			}
			t = token{name, rest[:length], 0, at}
		default:
			length := size
			if len(rest) > 1 && rest[1] == '=' && strings.ContainsRune("<>=!", r) {
				length = 2
			}
			if !strings.Contains(" + - * / ^ ( ) , = == < > <= >= != ", " "+rest[:length]+" ") {
				return nil, problem(source, at, fmt.Sprintf("%q means nothing here", rest[:length]))
			}
			t = token{operator, rest[:length], 0, at}
		}
		tokens = append(tokens, t)
		at += len(t.text)
	}
	return append(tokens, token{kind: end, offset: len(source)}), nil
}

func isDigit(c byte) bool { return c >= '0' && c <= '9' }

func span(s string, in func(rune) bool) int {
	if i := strings.IndexFunc(s, func(r rune) bool { return !in(r) }); i >= 0 {
		return i
	}
	return len(s)
}

func problem(source string, offset int, what string) *SyntaxError {
	return &SyntaxError{source, utf8.RuneCountInString(source[:offset]) + 1, what}
}
