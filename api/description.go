// Package description holds the description of the interface as it stands, for those who are to be told of it.
package description

import _ "embed"

// Contract is openapi.yaml.
//
//go:embed openapi.yaml
var Contract []byte
