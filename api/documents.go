package api

import (
	"context"
	"encoding/json"
	"reflect"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"bridgespan/core/namespace"
	"bridgespan/model"
)

// ApplyIn says how a document is applied.
type ApplyIn struct {
	Rehearse    bool   `query:"rehearse" doc:"Only tell what would change"`
	Fingerprint string `query:"fingerprint" doc:"Of a rehearsal: when the namespace changed since, nothing is done"`
}

// mostFlaws is how many flaws are told at once; whoever mends these sees others.
const mostFlaws = 2000

func (a *API) documentRoutes() {
	tags := []string{"Namespaces"}
	route(a, model.Viewer, huma.Operation{OperationID: "export-namespace", Method: "GET", Path: "/namespaces/{namespace}/document", Summary: "A whole namespace as one document, to be kept and applied", Tags: tags},
		func(ctx context.Context, in *struct {
			NamespacePath
			AsOf int64 `query:"asOf" minimum:"0" maximum:"9007199254740991" doc:"As it was right after this change; as it is when absent"`
		}) (*body[namespace.Document], error) {
			if in.AsOf != 0 {
				d, err := a.Naming.AsOf(ctx, in.Namespace, in.AsOf)
				return &body[namespace.Document]{d}, err
			}
			d, err := a.Naming.Export(ctx, in.Namespace)
			return &body[namespace.Document]{d}, err
		})
	route(a, model.Operator, huma.Operation{OperationID: "apply-document", Method: "POST", Path: "/documents", Summary: "Make a namespace what a document says, all of it or nothing", MaxBodyBytes: documentLimit, BodyReadTimeout: time.Minute, Tags: tags,
		Description: "What the document does not list goes; no file is touched. A signpost whose locations appear under another path is moved. Applying the same document again changes nothing."},
		func(ctx context.Context, in *struct {
			ApplyIn
			Sent[namespace.Document]
		}) (*body[model.Application], error) {
			done, err := a.Naming.Apply(ctx, in.Body, in.Fingerprint, in.Rehearse)
			return &body[model.Application]{done}, err
		})
	route(a, model.Operator, huma.Operation{OperationID: "return-namespace", Method: "POST", Path: "/namespaces/{namespace}/return", Summary: "Make a namespace what it was right after a change, or rehearse that", Tags: tags,
		Description: "What is still led to is as it was; locations that come back are held until they are verified."},
		func(ctx context.Context, in *struct {
			NamespacePath
			ApplyIn
			To int64 `query:"to" required:"true" minimum:"1" maximum:"9007199254740991" doc:"Number of the change"`
		}) (*body[model.Application], error) {
			d, err := a.Naming.AsOf(ctx, in.Namespace, in.To)
			if err != nil {
				return nil, err
			}
			done, err := a.Naming.Apply(ctx, d, in.Fingerprint, in.Rehearse)
			return &body[model.Application]{done}, err
		})
	route(a, model.Viewer, huma.Operation{OperationID: "look-through-lens", Method: "GET", Path: "/namespaces/{namespace}/lens", Summary: "A namespace as somebody sees it from where they stand", Tags: []string{"Directions"}},
		func(ctx context.Context, in *struct {
			NamespacePath
			From    string `query:"from" doc:"Site that they are at"`
			As      string `query:"as" doc:"Account of a person or group; absent to leave rights aside"`
			Through string `query:"through" enum:",gateway,front" doc:"front: through the front at that site; gateway, or absent: through the gateway"`
		}) (*body[model.Lens], error) {
			var through *model.Front
			if in.Through == "front" {
				f, err := a.Fronts.Required(ctx, in.Namespace, "", in.From)
				if err != nil {
					return nil, err
				}
				through = &f
			}
			seen, err := a.Lens.Look(ctx, in.Namespace, in.From, in.As, through)
			return &body[model.Lens]{model.Lens{Namespace: in.Namespace, From: in.From, As: in.As, Seen: seen}}, err
		})
	route(a, model.Viewer, huma.Operation{OperationID: "get-mappings", Method: "GET", Path: "/namespaces/{namespace}/mappings", Summary: "Drives and mount points for somebody, and what changed since they were last handed out", Tags: tags},
		func(ctx context.Context, in *struct {
			NamespacePath
			model.AskMappings
		}) (*body[model.Mappings], error) {
			m, err := a.Mapping.Make(ctx, in.Namespace, in.AskMappings, false)
			return &body[model.Mappings]{m}, err
		})
	route(a, model.Operator, huma.Operation{OperationID: "hand-out-mappings", Method: "POST", Path: "/namespaces/{namespace}/mappings", Summary: "Make drives and mount points for somebody, and keep that they were handed out", Tags: tags},
		func(ctx context.Context, in *struct {
			NamespacePath
			Sent[model.AskMappings]
		}) (*body[model.Mappings], error) {
			m, err := a.Mapping.Make(ctx, in.Namespace, in.Body, true)
			return &body[model.Mappings]{m}, err
		})
	route(a, model.Viewer, huma.Operation{OperationID: "list-handouts", Method: "GET", Path: "/namespaces/{namespace}/handouts", Summary: "What was last handed out to whom, and what changed since", Tags: tags},
		func(ctx context.Context, in *NamespacePath) (*body[model.Handouts], error) {
			list, err := a.Mapping.Handouts(ctx, in.Namespace)
			return &body[model.Handouts]{model.Handouts{Handouts: list}}, err
		})
	route(a, model.Viewer, huma.Operation{OperationID: "lint-namespace", Method: "GET", Path: "/namespaces/{namespace}/lint", Summary: "What people will stumble over in a namespace, and what to do about it", Tags: tags},
		func(ctx context.Context, in *struct {
			NamespacePath
			Deep bool `query:"deep" doc:"Also ask the file servers whether anybody may open what signposts lead to"`
		}) (*body[model.Flaws], error) {
			flaws, err := a.Lint.Lint(ctx, in.Namespace, in.Deep)
			total := len(flaws)
			return &body[model.Flaws]{model.Flaws{Flaws: flaws[:min(total, mostFlaws)], Total: total, Never: namespace.NeverThere}}, err
		})
	route(a, model.Operator, huma.Operation{OperationID: "fix-flaw", Method: "POST", Path: "/namespaces/{namespace}/lint/fix", Summary: "Mend a flaw that can be mended at once, or rehearse that", Tags: tags},
		func(ctx context.Context, in *struct {
			NamespacePath
			Sent[model.FixFlaw]
		}) (*body[model.Fixed], error) {
			done, err := a.Lint.Fix(ctx, in.Namespace, in.Body)
			return &body[model.Fixed]{done}, err
		})
	route(a, model.Viewer, huma.Operation{OperationID: "get-namespace-history", Method: "GET", Path: "/namespaces/{namespace}/history", Summary: "The changes of a namespace, newest first", Tags: tags},
		func(ctx context.Context, in *struct {
			NamespacePath
			NumberedPart
		}) (*body[model.Page[model.Change]], error) {
			before, err := in.number()
			if err != nil {
				return nil, err
			}
			changes, err := a.Naming.History(ctx, in.Namespace, before, in.Limit+1)
			return &body[model.Page[model.Change]]{numberedPage(changes, in.Limit, func(c model.Change) int64 { return c.ID })}, err
		})
}

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
