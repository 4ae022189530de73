package step

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/url"
	"os"
	"path"
	"slices"
	"strings"

	"welkin/core/batch"
	"welkin/core/format"
	"welkin/core/format/csv"
	"welkin/core/format/form"
	"welkin/core/paging"
	"welkin/core/schema"
)

var readAPI = Kind{
	Name: "read api", Role: Read, New: func() Settings { return &ReadAPI{} },
	Help: "Reads the records of an HTTP API, page by page.", Example: "/v1/provisions from council",
	Words: "http rest web service json xml endpoint request paging url",
}

// ReadAPI reads the records of an HTTP API. What is left out is found by asking for
// the first pages.
type ReadAPI struct {
	Connection string         `json:"connection" jsonschema:"title=connection,format=replies"`
	Path       string         `json:"path" jsonschema:"title=path,description=Below the connection's address"`
	Params     []APIParam     `json:"params,omitempty" jsonschema:"title=parameters"`
	Format     string         `json:"format,omitempty" jsonschema:"title=format,default=found by looking,enum=json,enum=json lines,enum=xml,enum=csv"`
	Records    string         `json:"records,omitempty" jsonschema:"title=records,description=Where the records stand in a reply: a path such as data.items in JSON or an element in XML; found by looking when left out"`
	Dialect    *csv.Dialect   `json:"dialect,omitempty" jsonschema:"title=dialect,description=How CSV is written"`
	Paging     *paging.Paging `json:"paging,omitempty" jsonschema:"title=pages,description=How the next page is asked for; found by asking for the second page when left out"`
	Total      string         `json:"total,omitempty" jsonschema:"title=total at,description=The path to the number of records that the API claims; it is compared with the rows read"`
	Calls      int            `json:"calls,omitempty" jsonschema:"title=calls at most,description=A run that needs more requests stops; 10000 when left out"`
	Columns    []ReadColumn   `json:"columns,omitempty" jsonschema:"title=columns,description=Names and types; found from the first reply when left out"`
	Nulls      []string       `json:"nulls,omitempty" jsonschema:"title=null texts,description=Texts that mean null"`
	Growing    *APIGrowing    `json:"growing,omitempty" jsonschema:"title=only what is new,description=Asks for what lies behind the last run; everything each time when left out"`
}

// APIParam is a parameter of the requests.
type APIParam struct {
	Name  string `json:"name" jsonschema:"title=name"`
	Value string `json:"value" jsonschema:"title=value,description=:name takes a parameter of the sheet"`
}

// APIGrowing asks for what is new by a parameter that takes the position.
type APIGrowing struct {
	Param  string `json:"param" jsonschema:"title=parameter,description=Which takes the greatest value read so far such as updated_since"`
	Column string `json:"column" jsonschema:"title=column,description=A column that is greater in records that are new or changed"`
	First  string `json:"first,omitempty" jsonschema:"title=first run,description=The parameter's value then; it is left out when nothing stands here"`
}

// mostCalls is how many requests a run makes when nothing is said.
const mostCalls = 10_000

// mostReply is how long a reply may be, in bytes.
const mostReply = 2 << 30

// Sentence implements Settings.
func (s *ReadAPI) Sentence() string {
	what := "read "
	if s.Growing != nil && s.Growing.Column != "" {
		what = "read what is new by `" + s.Growing.Column + "` in "
	}
	return what + "`" + orElse(s.Path, "…") + "` from " + orElse(s.Connection, "…")
}

// Bind implements Settings.
func (s *ReadAPI) Bind(c *Context, _ []*schema.Schema) *Bound {
	params := s.check(c)
	if c.Failed() {
		return nil
	}
	world, ok := c.World.(APIs)
	if !ok {
		c.Problem("connection", "there are no connections to APIs here")
		return nil
	}
	api, err := world.API(c, s.Connection)
	if err != nil {
		c.Problem("connection", "%s", err)
		return nil
	}
	source := &apiSource{api: api, settings: s, params: params, form: form.Form{Format: s.Format, Dialect: s.Dialect, Records: s.Records, Nulls: s.Nulls}, calls: s.Calls, total: s.Total}
	if source.calls == 0 {
		source.calls = mostCalls
	}
	look, err := source.look(c)
	if err != nil {
		c.Problem("path", "%s", err)
		return nil
	}
	if len(s.Columns) > 0 {
		source.schema = &schema.Schema{}
		for _, col := range s.Columns {
			source.schema.Columns = append(source.schema.Columns, schema.Column{Name: col.Name, Type: col.Type, Nullable: true})
		}
	}
	for i := range source.schema.Columns {
		source.schema.Columns[i].From = strings.Trim(s.Path, "/") + "." + source.schema.Columns[i].Name
	}
	c.distinctNames(source.schema, func(i int) string { return fmt.Sprintf("columns[%d].name", i) })
	bound := &Bound{Schema: source.schema, Source: source, Hint: func() map[string]any { return map[string]any{"api": look} }}
	if s.Growing != nil {
		at := c.column("growing.column", source.schema, s.Growing.Column)
		if s.Growing.Param == "" {
			c.Problem("growing.param", "say which parameter takes the position, such as updated_since")
		}
		if at >= 0 && s.Growing.Param != "" {
			bound.Source = &growingAPI{source, at}
		}
	}
	return bound
}

// check says what is wrong with the settings by themselves, and gives the parameters
// of the requests.
func (s *ReadAPI) check(c *Context) url.Values {
	if s.Connection == "" {
		c.Problem("connection", "no connection yet; choose one to an HTTP API")
	}
	if s.Path == "" {
		c.Problem("path", "no path yet; give one below the connection's address, such as /v1/provisions")
	}
	if strings.Contains(s.Path, "://") {
		c.Problem("path", "the path stands below the connection's address; the address itself belongs to the connection")
	}
	if s.Format != "" && !slices.Contains([]string{form.JSON, form.JSONLines, form.XML, form.CSV}, s.Format) {
		c.Problem("format", "replies are json, json lines, xml or csv, not %q", s.Format)
	}
	if s.Paging != nil {
		if err := s.Paging.Validate(); err != nil {
			c.Problem("paging", "%s", err)
		}
	}
	if s.Dialect != nil {
		if err := s.Dialect.Validate(); err != nil {
			c.Problem("dialect", "%s", err)
		}
	}
	if s.Calls < 0 {
		c.Problem("calls", "a run makes at least one request")
	}
	params := url.Values{}
	for i, p := range s.Params {
		if p.Name == "" {
			c.Problem(fmt.Sprintf("params[%d].name", i), "the parameter has no name")
			continue
		}
		value := p.Value
		if name, ok := strings.CutPrefix(value, ":"); ok && name != "" {
			text, err := c.paramText(name)
			if err != nil {
				c.Problem(fmt.Sprintf("params[%d].value", i), "%s", err)
				continue
			}
			value = text
		}
		params.Add(p.Name, value)
	}
	return params
}

// apiSource reads the records of an API.
type apiSource struct {
	api      API
	settings *ReadAPI
	params   url.Values
	form     form.Form
	schema   *schema.Schema
	paging   paging.Paging
	total    string
	calls    int
	keep     func(b *batch.Batch) (*batch.Batch, error) // looks at rows before they go on; may be nil
}

// APILook is what was seen while the ways of an API were found.
type APILook struct {
	Format  string        `json:"format"`
	Records string        `json:"records"`
	Paging  paging.Paging `json:"paging"`
	Total   string        `json:"total,omitempty"`
	Claimed *int          `json:"claimed,omitempty"`
	Why     []string      `json:"why"`
	Sure    bool          `json:"sure"`
	Calls   []APICall     `json:"calls" doc:"The requests made to find out, and what came."`
}

// APICall is a request and its reply as they are shown.
type APICall struct {
	Address string            `json:"address"`
	Status  int               `json:"status"`
	Header  map[string]string `json:"header,omitempty"`
	Body    string            `json:"body" doc:"The beginning of it."`
	Records int               `json:"records"`
}

const shownBody = 20_000

// look asks for the first pages and finds what the settings leave open.
func (s *apiSource) look(ctx context.Context) (*APILook, error) {
	out := &APILook{Calls: []APICall{}}
	first := paging.Paging{Kind: paging.None}
	if s.settings.Paging != nil {
		first = *s.settings.Paging
	}
	page, call, err := s.fetch(ctx, paging.Follow{Params: first.Begin()})
	if err != nil {
		return nil, err
	}
	defer page.Close()
	found, err := form.Find(ctx, path.Base(s.settings.Path), page.open, s.form, false)
	if err != nil && (s.form.Records != "" || s.schema == nil && len(s.settings.Columns) == 0) {
		return nil, fmt.Errorf("the first reply holds no records that can be read: %w", err)
	}
	s.form = found.Form
	s.schema = found.Schema
	if s.schema == nil {
		s.schema = &schema.Schema{}
	}
	out.Format, out.Records, out.Why = found.Form.Format, found.Form.Records, found.Why
	marks, err := s.describe(ctx, page, call)
	if err != nil {
		return nil, err
	}
	out.Calls = append(out.Calls, *call)
	if s.settings.Paging != nil {
		s.paging, out.Sure = first, true
		out.Why = append(out.Why, "pages as set in the step")
	} else {
		found, err := paging.Find(ctx, page.reply, marks, func(ctx context.Context, f paging.Follow) (paging.Reply, []string, error) {
			page, call, err := s.fetch(ctx, f)
			if err != nil {
				return paging.Reply{}, nil, err
			}
			defer page.Close()
			marks, err := s.describe(ctx, page, call)
			out.Calls = append(out.Calls, *call)
			return page.reply, marks, err
		})
		if err != nil {
			return nil, err
		}
		s.paging, out.Sure = found.Paging, found.Sure
		out.Why = append(out.Why, found.Why...)
		if s.total == "" {
			s.total = found.Total
		}
	}
	out.Paging, out.Total = s.paging, s.total
	if n, ok := claimed(page.reply.Body, s.total); ok {
		out.Claimed = &n
	}
	return out, nil
}

func claimed(body any, at string) (int, bool) {
	if at == "" {
		return 0, false
	}
	switch v := paging.At(body, at).(type) {
	case json.Number:
		n, err := v.Int64()
		return int(n), err == nil
	case string:
		n, fault := batch.ParseInt(v)
		return int(n), fault == nil
	}
	return 0, false
}

// apiPage is one reply, kept so that it can be read more than once.
type apiPage struct {
	*os.File
	reply paging.Reply
}

func (p *apiPage) open(context.Context) (io.ReadCloser, error) {
	size, err := p.Seek(0, io.SeekEnd)
	if err != nil {
		return nil, err
	}
	return io.NopCloser(io.NewSectionReader(p.File, 0, size)), nil
}

// fetch asks for one page.
func (s *apiSource) fetch(ctx context.Context, f paging.Follow) (*apiPage, *APICall, error) {
	request := APIRequest{Path: s.settings.Path, Address: f.Address, Params: url.Values{}}
	for k, v := range s.params {
		request.Params[k] = v
	}
	for k, v := range f.Params {
		request.Params[k] = v
	}
	var reply *APIReply
	var kept *os.File
	var n int64
	for attempt := 1; ; attempt++ {
		var err error
		if reply, err = s.api.Ask(ctx, request); err != nil {
			return nil, nil, err
		}
		if kept, n, err = keepReply(reply.Body); err == nil {
			break
		}
		if attempt == wholeAttempts || ctx.Err() != nil {
			return nil, nil, fmt.Errorf("the reply of %s did not come whole, also after %d attempts: %w", reply.Address, attempt, err)
		}
	}
	page := &apiPage{File: kept, reply: paging.Reply{Address: reply.Address, Header: reply.Header, Params: request.Params}}
	head := make([]byte, shownBody)
	shown, _ := kept.ReadAt(head, 0)
	call := &APICall{Address: reply.Address, Status: reply.Status, Body: strings.ToValidUTF8(string(head[:shown]), "�"), Header: map[string]string{}}
	for name, values := range reply.Header {
		call.Header[name] = strings.Join(values, ", ")
	}
	if n <= mostParsed && looksJSON(head[:shown]) {
		text := make([]byte, n)
		if _, err := kept.ReadAt(text, 0); err == nil {
			page.reply.Body, _ = batch.ParseJSON(string(text))
		}
	}
	return page, call, nil
}

// wholeAttempts is how often a reply that is cut is asked for.
const wholeAttempts = 3

// keepReply copies a reply to a file that goes when it is closed.
func keepReply(body io.ReadCloser) (*os.File, int64, error) {
	defer body.Close()
	kept, err := os.CreateTemp("", "welkin-reply-*")
	if err != nil {
		return nil, 0, fmt.Errorf("keeping a reply: %w", err)
	}
	_ = os.Remove(kept.Name()) // its content stays until it is closed
	n, err := io.Copy(kept, io.LimitReader(body, mostReply+1))
	if err == nil && n > mostReply {
		err = fmt.Errorf("the reply has more than %d GiB", mostReply>>30)
	}
	if err != nil {
		_ = kept.Close()
		return nil, 0, err
	}
	return kept, n, nil
}

// mostParsed is how long a reply is looked through for what leads to the next one.
const mostParsed = 64 << 20

func looksJSON(head []byte) bool {
	head = bytes.TrimSpace(head)
	return len(head) > 0 && head[0] == '{'
}

// describe counts a page's records and gives them as texts, to tell pages apart.
func (s *apiSource) describe(ctx context.Context, page *apiPage, call *APICall) ([]string, error) {
	r, err := s.form.Read(ctx, page.open, form.Options{Schema: s.schema, Origin: page.reply.Address, Missing: true})
	if err == format.ErrEmpty {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	defer r.Close()
	var marks []string
	for {
		c, err := r.Next(ctx)
		if err == io.EOF {
			break
		}
		if err != nil {
			return nil, err
		}
		page.reply.Records += int(c.Seen)
		for i := range c.Batch.N {
			var mark strings.Builder
			for _, v := range c.Batch.Row(i) {
				if v != nil {
					mark.WriteString(*v)
				}
				mark.WriteByte('|')
			}
			marks = append(marks, mark.String())
		}
	}
	call.Records = page.reply.Records
	return marks, nil
}

// Open implements Source.
func (s *apiSource) Open(_ context.Context, limit int64) (Reader, error) {
	return &apiReader{apiSource: s, limit: limit, next: paging.Follow{Params: s.paging.Begin()}, more: true}, nil
}

// apiReader reads page after page.
type apiReader struct {
	*apiSource
	limit, rows, seen int64
	calls             int
	state             paging.State
	next              paging.Follow
	more              bool
	page              *apiPage
	open              format.Reader // of page
	claim             *int
	warned            bool
}

// Next implements Reader.
func (r *apiReader) Next(ctx context.Context) (Chunk, error) {
	for {
		if r.limit > 0 && r.rows >= r.limit {
			return Chunk{}, io.EOF
		}
		if r.open == nil {
			if !r.more {
				return r.end()
			}
			if err := r.ask(ctx); err != nil {
				return Chunk{}, err
			}
			continue
		}
		got, err := r.open.Next(ctx)
		if err == io.EOF {
			if err := r.follow(); err != nil {
				return Chunk{}, err
			}
			continue
		}
		if err != nil {
			return Chunk{}, fmt.Errorf("reading %s: %w", r.page.reply.Address, err)
		}
		r.page.reply.Records += int(got.Seen)
		r.seen += got.Seen
		return r.chunk(got)
	}
}

func (r *apiReader) chunk(got format.Chunk) (Chunk, error) {
	out := Chunk{Batch: got.Batch, Seen: got.Seen}
	if left := r.limit - r.rows; r.limit > 0 && int64(out.Batch.N) > left {
		out.Seen -= int64(out.Batch.N) - left
		out.Batch = out.Batch.Slice(0, int(left))
	}
	r.rows += int64(out.Batch.N)
	for _, bad := range got.Refused {
		out.Refused = append(out.Refused, Refused{Fault: bad.Fault, Column: bad.Column, Value: bad.Value, Place: r.page.reply.Address, Row: bad.Line, Raw: bad.Raw})
	}
	if r.keep != nil {
		before := out.Batch.N
		kept, err := r.keep(out.Batch)
		if err != nil {
			return Chunk{}, err
		}
		out.Seen -= int64(before - kept.N)
		out.Batch = kept
	}
	return out, nil
}

// ask fetches the next page.
func (r *apiReader) ask(ctx context.Context) error {
	if r.calls++; r.calls > r.apiSource.calls {
		return fmt.Errorf("%d requests were made, as many as the step allows, and there are more pages; nothing was loaded: allow more calls, or ask for less", r.apiSource.calls)
	}
	page, _, err := r.fetch(ctx, r.next)
	if err != nil {
		return err
	}
	open, err := r.form.Read(ctx, page.open, form.Options{Schema: r.schema, Origin: page.reply.Address, Missing: true})
	if err == format.ErrEmpty {
		_ = page.Close()
		r.more = false
		return nil
	}
	if err != nil {
		_ = page.Close()
		return fmt.Errorf("reading %s: %w", page.reply.Address, err)
	}
	r.page, r.open = page, open
	if n, ok := claimed(page.reply.Body, r.total); ok && r.claim == nil {
		r.claim = &n
	}
	return nil
}

// follow ends a page and finds what comes behind it.
func (r *apiReader) follow() (err error) {
	r.next, r.more, err = r.paging.After(&r.state, r.page.reply)
	r.closePage()
	return err
}

// end compares the rows read with what the API claims.
func (r *apiReader) end() (Chunk, error) {
	if r.claim == nil || r.warned || int64(*r.claim) == r.seen || r.limit > 0 {
		return Chunk{}, io.EOF
	}
	r.warned = true
	return Chunk{Batch: emptyBatch(r.schema), Warning: fmt.Sprintf("the API claims %d records and gave %d", *r.claim, r.seen)}, nil
}

func emptyBatch(s *schema.Schema) *batch.Batch {
	b := &batch.Batch{Schema: s}
	for _, c := range s.Columns {
		b.Cols = append(b.Cols, batch.NewBuilder(c.Type).NewArray())
	}
	return b
}

func (r *apiReader) closePage() {
	if r.open != nil {
		_ = r.open.Close()
		_ = r.page.Close()
		r.open, r.page = nil, nil
	}
}

// Close implements Reader.
func (r *apiReader) Close() error {
	r.closePage()
	return nil
}

// growingAPI asks for what lies behind the last run.
type growingAPI struct {
	*apiSource
	column int
}

// From implements Positioned: the parameter takes the greatest value read so far. An
// attempt done again leaves out what is above the value that the first one reached.
func (g *growingAPI) From(_ context.Context, slice Slice) (Source, func() (json.RawMessage, error), error) {
	growing := g.settings.Growing
	var after, upTo growingPosition
	if err := readPosition(slice.After, &after); err != nil {
		return nil, nil, err
	}
	if err := readPosition(slice.UpTo, &upTo); err != nil {
		return nil, nil, err
	}
	source := *g.apiSource
	source.params = url.Values{}
	for k, v := range g.params {
		source.params[k] = v
	}
	if after.UpTo != nil {
		source.params.Set(growing.Param, *after.UpTo)
	} else if growing.First != "" {
		source.params.Set(growing.Param, growing.First)
	}
	greatest := after.UpTo
	t := source.schema.Columns[g.column].Type
	source.keep = func(b *batch.Batch) (*batch.Batch, error) {
		rows := make([]int32, 0, b.N)
		for i := range b.N {
			if !b.Cols[g.column].IsNull(i) {
				v := batch.Text(b.Cols[g.column], t, i)
				if slice.UpTo != nil && upTo.UpTo != nil && greater(t, v, *upTo.UpTo) {
					continue
				}
				if greatest == nil || greater(t, v, *greatest) {
					greatest = &v
				}
			}
			rows = append(rows, int32(i))
		}
		if len(rows) == b.N {
			return b, nil
		}
		return b.Take(rows), nil
	}
	return &source, func() (json.RawMessage, error) {
		return json.Marshal(growingPosition{Column: growing.Column, UpTo: greatest})
	}, nil
}

// greater compares two values of a type that are written as text.
func greater(t schema.Type, a, b string) bool {
	if t.Numeric() {
		x, _ := batch.ParseFloat(a)
		y, _ := batch.ParseFloat(b)
		return x > y
	}
	return a > b // days and instants are written so that this is right
}
