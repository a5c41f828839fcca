package source

import _ "embed"

//go:embed schema.json
var schema []byte

// Schema is the JSON Schema of descriptions. It is generated from [Description]
// and its comments by 'make docs'.
func Schema() []byte { return schema }
