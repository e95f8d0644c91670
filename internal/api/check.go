package api

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"strconv"
	"strings"
	"unicode"
	"unicode/utf8"

	contract "excavate/api"

	"github.com/getkin/kin-openapi/openapi3"
	"github.com/getkin/kin-openapi/openapi3filter"
	"github.com/getkin/kin-openapi/routers"
	"github.com/getkin/kin-openapi/routers/gorillamux"
	"github.com/gofiber/fiber/v3"
)

// checker holds requests against the contract, before a handler sees them:
// every query, path and body has the types, bounds and lengths that
// api/openapi.yaml gives them, and a project that is named is there.
type checker struct {
	router routers.Router
	known  func(ctx context.Context, project int64) error
}

func newChecker(known func(ctx context.Context, project int64) error) (*checker, error) {
	doc, err := openapi3.NewLoader().LoadFromData(contract.OpenAPI)
	if err != nil {
		return nil, fmt.Errorf("read the contract: %w", err)
	}
	openapi3.DefineStringFormatValidator("line", openapi3.NewCallbackValidator(isLine))
	router, err := gorillamux.NewRouter(doc)
	return &checker{router, known}, err
}

// isLine holds for one line of text that a person can read: names and titles.
func isLine(s string) error {
	for _, r := range s {
		switch {
		case unicode.IsControl(r) || r == '\u2028' || r == '\u2029':
			return fmt.Errorf("it has a control character, %U; a name is one line of text", r)
		case r >= '\u202a' && r <= '\u202e' || r >= '\u2066' && r <= '\u2069':
			return fmt.Errorf("it has a mark that turns text round, %U", r)
		}
	}
	if s != "" && strings.TrimSpace(s) == "" {
		return errors.New("it has nothing but spaces")
	}
	return nil
}

// check is the middleware.
func (k *checker) check(c fiber.Ctx) error {
	if !strings.HasPrefix(c.Path(), "/api/") {
		return c.Next()
	}
	u, err := url.ParseRequestURI(c.OriginalURL())
	if err != nil {
		return bad(400, "the address cannot be read: %v", err)
	}
	query, err := url.ParseQuery(u.RawQuery)
	if err != nil {
		return bad(400, "the query cannot be read: %v", err)
	}
	if err := plainQuery(query); err != nil {
		return err
	}
	method := c.Method()
	if method == http.MethodHead {
		method = http.MethodGet
	}
	kind := c.Get("Content-Type")
	if kind == "" {
		kind = "application/json" // the only one that there is
	}
	r := &http.Request{Method: method, URL: u, Header: http.Header{"Content-Type": {kind}}, Host: c.Host()}
	route, vars, err := k.router.FindRoute(r)
	if err != nil {
		return c.Next() // there is nothing at the address, or not with this method
	}
	for name, v := range vars {
		if v, err = url.PathUnescape(v); err != nil || !plain(v) {
			return bad(400, "%s in the address is no text", name)
		}
	}
	in := &openapi3filter.RequestValidationInput{Request: r, PathParams: vars, QueryParams: query, Route: route,
		Options: &openapi3filter.Options{ExcludeRequestBody: true, SkipSettingDefaults: true}}
	if takesJSON(route.Operation) {
		most := int64(maxBody)
		if route.Operation.OperationID == "beginUpload" {
			most = maxUploadList
		}
		b, err := readBody(c, most)
		if err != nil {
			return err
		}
		c.Request().SetBody(b)
		r.Body = io.NopCloser(bytes.NewReader(b))
		r.ContentLength = int64(len(b))
		in.Options.ExcludeRequestBody = false
	}
	if err := openapi3filter.ValidateRequest(context.Background(), in); err != nil {
		return bad(400, "%s", say(err))
	}
	if id, err := strconv.ParseInt(vars["project"], 10, 64); err == nil {
		if err := k.known(c.Context(), id); err != nil {
			return err
		}
	}
	return c.Next()
}

func takesJSON(o *openapi3.Operation) bool {
	return o.RequestBody != nil && o.RequestBody.Value.Content.Get("application/json") != nil
}

// readBody reads a JSON body whole, up to a bound. A body that is no UTF-8, or
// has a NUL in a string, is refused: neither survives a file name or a column.
func readBody(c fiber.Ctx, most int64) ([]byte, error) {
	b, err := io.ReadAll(io.LimitReader(bodyReader(c), most+1))
	switch {
	case err != nil:
		return nil, bad(400, "the request's body broke off: %v", err)
	case int64(len(b)) > most:
		return nil, bad(413, "the request has more than %d bytes", most)
	case !utf8.Valid(b):
		return nil, bad(400, "the request's body is no UTF-8")
	}
	if bytes.Contains(b, []byte(`\u0000`)) {
		var v any
		if json.Unmarshal(b, &v) == nil && hasNUL(v) {
			return nil, bad(400, "the request's body has the character NUL in a text")
		}
	}
	return b, nil
}

func hasNUL(v any) bool {
	switch v := v.(type) {
	case string:
		return strings.ContainsRune(v, 0)
	case []any:
		for _, x := range v {
			if hasNUL(x) {
				return true
			}
		}
	case map[string]any:
		for k, x := range v {
			if strings.ContainsRune(k, 0) || hasNUL(x) {
				return true
			}
		}
	}
	return false
}

func plain(s string) bool { return utf8.ValidString(s) && !strings.ContainsRune(s, 0) }

func plainQuery(q url.Values) error {
	for name, list := range q {
		for _, v := range list {
			if !plain(name) || !plain(v) {
				return bad(400, "%q of the query is no text", name)
			}
		}
	}
	return nil
}

// say puts an error of the check in words: what, where, why.
func say(err error) string {
	var re *openapi3filter.RequestError
	if !errors.As(err, &re) {
		return err.Error()
	}
	where := "the request's body"
	if re.Parameter != nil {
		where = fmt.Sprintf("%s in the %s", re.Parameter.Name, re.Parameter.In)
	}
	var se *openapi3.SchemaError
	if errors.As(re.Err, &se) {
		if p := se.JSONPointer(); len(p) > 0 {
			where += ", " + strings.Join(p, ".")
		}
		return where + ": " + strings.ReplaceAll(se.Reason, `"`, "'")
	}
	var pe *openapi3filter.ParseError
	switch {
	case errors.As(re.Err, &pe) && re.Parameter != nil:
		return fmt.Sprintf("%s: %.40q is not what stands there: %s", where, fmt.Sprint(pe.Value), kindOf(re.Parameter))
	case errors.As(re.Err, &pe):
		return fmt.Sprintf("%s: %s", where, strings.TrimSpace(pe.RootCause().Error()))
	case re.Err != nil:
		return fmt.Sprintf("%s: %v", where, re.Err)
	}
	return where + ": " + re.Reason
}

// kindOf says what a parameter is to be.
func kindOf(p *openapi3.Parameter) string {
	switch s := p.Schema.Value; {
	case s.Type.Is("integer"):
		return "it is a whole number"
	case s.Type.Is("number"):
		return "it is a number"
	case s.Type.Is("boolean"):
		return "it is true or false"
	}
	return "see api/openapi.yaml"
}
