//go:build tools

// Package server pins the S3-compatible server that the tests start; `go build` makes it.
package server

import _ "github.com/versity/versitygw/cmd/versitygw"
