package client

//go:generate go tool oapi-codegen -config client.yaml ../../api/openapi.yaml
