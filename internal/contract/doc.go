// Package contract holds the words of the HTTP interface, generated from
// api/openapi.yaml. Run `go generate ./internal/contract ./internal/api
// ./internal/client` after a change of that file.
package contract

//go:generate go tool oapi-codegen -config models.yaml ../../api/openapi.yaml
