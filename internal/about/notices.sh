#!/bin/sh
# Writes the names and licences of every module that is linked into the program,
# on any of its systems.
set -eu
{
	echo "This program holds the Go standard library and the modules below, each under its own licence."
	for system in linux windows; do
		GOOS=$system go list -deps -f '{{with .Module}}{{if not .Main}}{{.Path}} {{.Version}} {{.Dir}}{{end}}{{end}}' ./cmd/movekit
	done | sort -u | while read -r path version dir; do
		printf '\n==== %s %s\n\n' "$path" "$version"
		cat "$dir"/LICEN[SC]E* "$dir"/COPYING* "$dir"/license* "$dir"/NOTICE* "$dir"/UNLICENSE* 2>/dev/null || true
	done
	printf '\n==== Go\n\n'
	cat "$(go env GOROOT)/LICENSE"
} | tr -d '\r'
