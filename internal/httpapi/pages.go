package httpapi

import (
	"crypto/sha256"
	"encoding/base64"
	"encoding/json"
	"fmt"
	"net/http"
	"net/url"
	"reflect"
	"slices"
	"strconv"
	"strings"

	"github.com/gofiber/fiber/v3"

	"parallelpane/internal/api"
)

// What may be asked of every list beside its filters: where it goes on, and of a list that
// is short enough to be read whole how much of it is wanted.
type (
	more struct {
		After string `query:"after" json:"-" description:"go on after this: what the Link header of the page before has"`
	}
	page struct {
		more
		Limit int `query:"limit" json:"-" description:"at most this many; all if not given"`
	}
)

// pager cuts what an operation answers into pages; the zero value cuts nothing.
type pager struct {
	list    bool
	resumes api.Resumes // of a list that is read a page at a time; nil of one that is read whole
	limit   int
	after   string
}

// isList says whether an operation answers with a list, and what else may be asked of it.
func isList(method string, in any, out reflect.Type) (list bool, beside []string, doc any) {
	if method != http.MethodGet || out.Kind() != reflect.Slice {
		return false, nil, nil
	}
	if _, ok := in.(api.Resumes); ok {
		return true, []string{"after"}, new(more)
	}
	return true, []string{"after", "limit"}, new(page)
}

// cursorPrefix begins what a cursor says, so that another may come to mean something else.
const cursorPrefix = "1 "

// paged reads which page of a list is asked for.
func paged(c fiber.Ctx, list bool, in any) (p pager, err error) {
	if !list {
		return p, nil
	}
	p.list = true
	p.resumes, _ = in.(api.Resumes)
	if after := c.Query("after"); after != "" {
		raw, err := base64.RawURLEncoding.DecodeString(after)
		rest, ok := strings.CutPrefix(string(raw), cursorPrefix)
		if err != nil || !ok || rest == "" {
			return p, invalid("after: expected what the Link header of the page before has, found %.80q", after)
		}
		if p.after = rest; p.resumes != nil {
			return p, p.resumes.Resume(rest)
		}
	}
	if text := c.Query("limit"); text != "" && p.resumes == nil {
		if p.limit, err = strconv.Atoi(text); err != nil || p.limit < 1 {
			return p, invalid("limit: expected a number of at least 1, found %.80q", text)
		}
	}
	return p, nil
}

// cut leaves of a list what belongs to the page, and says in a Link header (RFC 8288) where
// the next one is.
func (p pager) cut(c fiber.Ctx, out any) any {
	if !p.list {
		return out
	}
	v := reflect.ValueOf(out)
	if p.resumes != nil {
		if n := v.Len(); n > 0 && n >= p.resumes.Size() {
			next(c, p.resumes.Cursor(v.Index(n-1).Interface()))
		}
		return out
	}
	from := 0
	if p.after != "" {
		from = p.place(v)
	}
	to := v.Len()
	if p.limit > 0 {
		to = min(to, from+p.limit)
	}
	if to < v.Len() && to > 0 {
		next(c, fmt.Sprintf("%d %s", to, identity(v.Index(to-1))))
	}
	return v.Slice(from, to).Interface()
}

// place is where a list goes on after something: after that, or where that was if it is gone.
func (p pager) place(v reflect.Value) int {
	at, id, _ := strings.Cut(p.after, " ")
	n, err := strconv.Atoi(at)
	if err != nil || n < 0 {
		return v.Len()
	}
	for i := range v.Len() {
		if identity(v.Index(i)) == id {
			return i + 1
		}
	}
	return min(n, v.Len())
}

// named are the fields by which things in lists are told from each other.
var named = []string{"ID", "Number", "Project", "Suite", "Environment", "Kind", "Name", "Test", "Run", "Pane", "Attempt", "At"}

func identity(v reflect.Value) string {
	for v.Kind() == reflect.Pointer || v.Kind() == reflect.Interface {
		v = v.Elem()
	}
	if v.Kind() != reflect.Struct {
		return fmt.Sprint(v.Interface())
	}
	var parts []string
	for _, name := range named {
		f := v.FieldByName(name)
		if f.IsValid() && (f.Kind() == reflect.String || f.CanInt()) {
			parts = append(parts, fmt.Sprint(f.Interface()))
		}
	}
	return strings.Join(parts, "\x00")
}

func next(c fiber.Ctx, cursor string) {
	q := url.Values{}
	for name, value := range c.Queries() {
		q.Set(name, value)
	}
	q.Set("after", base64.RawURLEncoding.EncodeToString([]byte(cursorPrefix+cursor)))
	c.Set(fiber.HeaderLink, "<"+c.Path()+"?"+q.Encode()+`>; rel="next"`)
}

// answer sends a body of JSON under the condition that it is not what the client has
// (RFC 9110, section 13): its ETag is a digest of it.
func answer(c fiber.Ctx, body any) error {
	raw, err := json.Marshal(body)
	if err != nil {
		return err
	}
	c.Set(fiber.HeaderContentType, fiber.MIMEApplicationJSONCharsetUTF8)
	if unchanged(c, raw, "") {
		return c.SendStatus(http.StatusNotModified)
	}
	return c.Send(raw)
}

// unchanged sets the ETag of what is looked at, and reports whether the client has it.
// coding is how it is sent.
func unchanged(c fiber.Ctx, of []byte, coding string) bool {
	if c.Method() != http.MethodGet && c.Method() != http.MethodHead {
		c.Set(fiber.HeaderCacheControl, "no-store")
		return false
	}
	// A browser keeps nothing on its disk that is to be seen only by whoever is signed in; a
	// program that keeps what it was told asks each time whether that still holds.
	c.Set(fiber.HeaderCacheControl, "no-store")
	if c.Get(fiber.HeaderAuthorization) != "" {
		c.Set(fiber.HeaderCacheControl, "private, no-cache")
	}
	sum := sha256.Sum256(of)
	tag := `"` + base64.RawURLEncoding.EncodeToString(sum[:15]) + coding + `"`
	c.Set(fiber.HeaderETag, tag)
	has := c.Get(fiber.HeaderIfNoneMatch)
	if has == "*" {
		return true
	}
	return slices.ContainsFunc(strings.Split(has, ","), func(s string) bool {
		return strings.TrimPrefix(strings.TrimSpace(s), "W/") == tag
	})
}
