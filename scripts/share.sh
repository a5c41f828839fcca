#!/bin/sh
# Prints how large a share of the lines of code the tests are.
set -eu
git ls-files -co --exclude-standard | grep -E '\.(go|ts|svelte|css|sql|sh)$|(^|/)Makefile$' | grep -v schema.d.ts | {
	code=0 tests=0
	while read -r file; do
		lines=$(grep -c '[^[:space:]]' "$file" || true)
		case $file in
		*_test.go | test/*) tests=$((tests + lines)) ;;
		*) code=$((code + lines)) ;;
		esac
	done
	echo "tests are $((100 * tests / (tests + code))) % of $((tests + code)) lines"
}
