package httpapi

import (
	"net/http"
	"reflect"
	"slices"
	"strings"

	"github.com/swaggest/jsonschema-go"
	"github.com/swaggest/openapi-go"
	"github.com/swaggest/openapi-go/openapi31"
)

// document gathers the OpenAPI 3.1 description of the routes as they are
// registered.
type document struct{ reflector *openapi31.Reflector }

func newDocument(version string) *document {
	r := openapi31.NewReflector()
	r.Spec.Info.WithTitle("Parallel Pane").WithVersion(version).
		WithDescription("Every operation needs a token: Authorization: Bearer TOKEN. Errors are RFC 9457 problems.")
	r.Spec.SetHTTPBearerTokenSecurity("token", "", "a token of the service")
	r.DefaultOptions = append(r.DefaultOptions, jsonschema.StripDefinitionNamePrefix("Api", "Httpapi", "CoreFleet",
		"CoreDevice", "CoreVerdict"),
		jsonschema.InterceptProp(func(p jsonschema.InterceptPropParams) error {
			if s := p.PropertySchema; p.Processed && p.Field.Type.Kind() == reflect.Pointer && s != nil && s.Ref != nil {
				of := (&jsonschema.Schema{Ref: s.Ref}).ToSchemaOrBool()
				none := (&jsonschema.Schema{}).WithType(jsonschema.Null.Type())
				s.Ref, s.AnyOf = nil, []jsonschema.SchemaOrBool{of, none.ToSchemaOrBool()}
			}
			// What is never left out is always there.
			if tag := p.Field.Tag.Get("json"); p.Processed && p.ParentSchema != nil && tag != "" && !strings.Contains(tag, ",omit") &&
				p.Name != "-" && !slices.Contains(p.ParentSchema.Required, p.Name) {
				p.ParentSchema.Required = append(p.ParentSchema.Required, p.Name)
			}
			return nil
		}),
		jsonschema.InterceptNullability(func(p jsonschema.InterceptNullabilityParams) {
			if p.NullAdded && (p.Type.Kind() == reflect.Slice || p.Type.Kind() == reflect.Map) {
				p.Schema.RemoveType(jsonschema.Null) // answers have empty lists, see filled
			}
		}))
	return &document{r}
}

// operation describes one route. in has path, query and json tags; out is nil
// for a body that is not JSON.
func (d *document) operation(method, path string, n need, summary string, in, out any, also ...any) {
	op, err := d.reflector.NewOperationContext(method, Prefix+path)
	if err != nil {
		panic(err) // a mistake in the route table
	}
	op.SetSummary(summary)
	op.SetID(strings.ToLower(method) + strings.NewReplacer("/", "-", "{", "", "}", "").Replace(path))
	if n.where != anybody {
		op.AddSecurity("token")
		op.SetDescription("Role: " + n.String() + ".")
	}
	for _, x := range append([]any{in}, also...) {
		if x != nil {
			op.AddReqStructure(x)
		}
	}
	switch out.(type) {
	case nil:
		op.AddRespStructure(nil, openapi.WithHTTPStatus(http.StatusOK))
	case *none:
		op.AddRespStructure(nil, openapi.WithHTTPStatus(http.StatusNoContent))
	default:
		op.AddRespStructure(out)
	}
	op.AddRespStructure(Problem{}, func(cu *openapi.ContentUnit) {
		cu.IsDefault, cu.ContentType = true, "application/problem+json"
	})
	if err := d.reflector.AddOperation(op); err != nil {
		panic(err) // a mistake in the route table
	}
}

func (d *document) json() []byte {
	raw, err := d.reflector.Spec.MarshalJSON()
	if err != nil {
		panic(err)
	}
	return append(raw, '\n')
}
