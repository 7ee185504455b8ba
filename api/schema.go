package api

import (
	"encoding/json"
	"reflect"

	"github.com/danielgtaylor/huma/v2"

	"bridgespan/core/namespace"
)

// NamespaceSchema is the JSON Schema (2020-12) of the documents that a namespace
// is exported to and applied from.
func NamespaceSchema() ([]byte, error) {
	registry := huma.NewMapRegistry("#/$defs/", huma.DefaultSchemaNamer)
	registry.Schema(reflect.TypeFor[namespace.Document](), true, "Document")
	return json.MarshalIndent(map[string]any{
		"$schema": "https://json-schema.org/draft/2020-12/schema", "title": "A namespace of Bridge Span",
		"$ref": "#/$defs/Document", "$defs": registry.Map(),
	}, "", "  ")
}
