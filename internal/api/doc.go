// Package api speaks HTTP for the service: handlers generated from
// api/openapi.yaml where that can be, and by hand for what streams (events,
// evidence, the hosts' link and blobs). It decides nothing.
package api

//go:generate go tool oapi-codegen -config server.yaml ../../api/openapi.yaml
