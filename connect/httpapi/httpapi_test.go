package httpapi_test

import (
	"context"
	"encoding/json"
	"encoding/pem"
	"fmt"
	"net/http/httptest"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"welkin/connect"
	"welkin/connect/connecttest"
	"welkin/connect/httpapi"
	"welkin/connect/way"
	"welkin/core/format/csv"
	"welkin/core/paging"
	"welkin/core/step"
	"welkin/standin/councilapi"
)

// council starts a stand-in with the same 230 provisions in every way of paging.
func council(t *testing.T) (*councilapi.API, *httptest.Server, *httpapi.Settings) {
	api := &councilapi.API{Key: "a key of the council", User: "larkfell", Client: "hut association", Collections: map[string]councilapi.Collection{
		"/v1/levels": {Columns: []string{"id", "name", "level"}, Records: []councilapi.Record{{"1", "Ravenseat", "2.50"}, {"2", "Larkfell", ""}, {"3", "", "-1.00"}}, Inside: "levels"}}}
	var records []councilapi.Record
	for i := range 230 {
		records = append(records, councilapi.Record{fmt.Sprint(i + 1), fmt.Sprintf("H%02d", i%48), fmt.Sprintf("2026-11-%02d", i/10+1), fmt.Sprintf("%d.5", i%7)})
	}
	columns := []string{"id", "hut", "day", "kg"}
	for _, w := range []string{"page", "offset", "cursor", "next", "link"} {
		api.Collections["/v1/"+w] = councilapi.Collection{Columns: columns, Records: records, Way: w, Inside: map[bool]string{true: "", false: "provisions"}[w == "link"], Size: 50}
	}
	api.Collections["/v1/csv"] = councilapi.Collection{Columns: columns, Records: records, Way: "link", Form: "csv", Size: 100}
	api.Collections["/v1/xml"] = councilapi.Collection{Columns: columns, Records: records, Way: "page", Form: "xml", Size: 100}
	api.Collections["/v1/since"] = councilapi.Collection{Columns: columns, Records: records, Way: "page", Inside: "provisions", Size: 50, Since: "day_since"}
	server := httptest.NewServer(api)
	t.Cleanup(server.Close)
	return api, server, &httpapi.Settings{URL: server.URL, Auth: httpapi.AuthKey, Key: "a key of the council", Paths: []string{"/v1/levels", "/v1/page"}}
}

func world(c connect.Connection) *connect.World {
	return &connect.World{Open: func(context.Context, string) (connect.Connection, error) { return c, nil }}
}

func open(t *testing.T, s *httpapi.Settings) connect.Connection {
	require.NoError(t, s.Validate())
	c, err := httpapi.Kind.Open(t.Context(), s)
	require.NoError(t, err)
	t.Cleanup(func() { _ = c.Close() })
	return c
}

func bind(t *testing.T, c connect.Connection, s step.ReadAPI) (*step.Bound, []step.Problem) {
	s.Connection = "x"
	ctx := &step.Context{Context: t.Context(), World: world(c)}
	return s.Bind(ctx, nil), ctx.Problems()
}

// ids reads all rows and gives their first cells, and the warnings.
func ids(t *testing.T, source step.Source) (out []string, warnings []string, err error) {
	r, err := source.Open(t.Context(), 0)
	require.NoError(t, err)
	defer r.Close()
	for {
		c, err := r.Next(t.Context())
		if err != nil {
			if err.Error() == "EOF" {
				err = nil
			}
			return out, warnings, err
		}
		if c.Warning != "" {
			warnings = append(warnings, c.Warning)
		}
		for i := range c.Batch.N {
			out = append(out, *c.Batch.Row(i)[0])
		}
	}
}

func TestConformance(t *testing.T) {
	_, _, good := council(t)
	with := func(change func(*httpapi.Settings)) connect.Settings {
		s := *good
		change(&s)
		return &s
	}
	connecttest.Run(t, connecttest.Harness{Kind: httpapi.Kind, Good: good, Secret: good.Key, Path: "/v1/levels",
		Bad: map[string]connect.Settings{
			"the name resolves": with(func(s *httpapi.Settings) { s.URL = "http://no-such-machine.invalid" }),
			"the port answers":  with(func(s *httpapi.Settings) { s.URL = "http://127.0.0.1:1" }),
			"sign-in":           with(func(s *httpapi.Settings) { s.Key = "another" }),
			"may read":          with(func(s *httpapi.Settings) { s.Paths = []string{"/v1/gone"} }),
		},
		Read: func(ctx context.Context, c connect.Connection) (step.Reader, error) {
			stepContext := &step.Context{Context: ctx, World: world(c)}
			b := (&step.ReadAPI{Connection: "x", Path: "/v1/levels"}).Bind(stepContext, nil)
			require.NotNil(t, b, "%v", stepContext.Problems())
			return b.Source.Open(ctx, 0)
		}})
}

func TestEveryWayOfPagingIsFoundAndFollowed(t *testing.T) {
	_, _, s := council(t)
	c := open(t, s)
	want := make([]string, 230)
	for i := range want {
		want[i] = fmt.Sprint(i + 1)
	}
	for path, way := range map[string]string{"page": paging.Page, "offset": paging.Offset, "cursor": paging.Cursor, "next": paging.Next, "link": paging.Link, "csv": paging.Link, "xml": paging.Page} {
		b, problems := bind(t, c, step.ReadAPI{Path: "/v1/" + path})
		require.Empty(t, problems, path)
		look := b.Hint()["api"].(*step.APILook)
		assert.Equal(t, way, look.Paging.Kind, "%s: %v", path, look.Why)
		assert.True(t, look.Sure, "%s: %v", path, look.Why)
		assert.GreaterOrEqual(t, len(look.Calls), 2, path)
		got, warnings, err := ids(t, b.Source)
		require.NoError(t, err, path)
		assert.Equal(t, want, got, path)
		assert.Empty(t, warnings, path)
	}
}

func TestRefusalsAreWaitedForAndCutRepliesAskedForAgain(t *testing.T) {
	api, _, s := council(t)
	c := open(t, s)
	b, problems := bind(t, c, step.ReadAPI{Path: "/v1/page"})
	require.Empty(t, problems)
	api.Plan(councilapi.Fault{Status: 429, RetryAfter: "0"}, councilapi.Fault{Status: 503, RetryAfter: "0"}, councilapi.Fault{}, councilapi.Fault{Status: 502, RetryAfter: "0"})
	got, _, err := ids(t, b.Source)
	require.NoError(t, err)
	assert.Len(t, got, 230)

	api.Plan(councilapi.Fault{}, councilapi.Fault{Cut: true})
	got, _, err = ids(t, b.Source)
	require.NoError(t, err)
	assert.Len(t, got, 230, "a reply that was cut is asked for again")
	cut := councilapi.Fault{Cut: true}
	api.Plan(councilapi.Fault{}, cut, cut, cut)
	_, _, err = ids(t, b.Source)
	assert.ErrorContains(t, err, "did not come whole")
	got, _, err = ids(t, b.Source)
	require.NoError(t, err, "the next run is right again")
	assert.Len(t, got, 230)

	s.Attempts = 2
	c = open(t, s)
	api.Plan(councilapi.Fault{Status: 503, RetryAfter: "0"}, councilapi.Fault{Status: 503, RetryAfter: "0"})
	_, problems = bind(t, c, step.ReadAPI{Path: "/v1/page"})
	require.NotEmpty(t, problems)
	assert.Contains(t, problems[0].Sentence, "also after 2 attempts")
	api.Plan(councilapi.Fault{Status: 429, RetryAfter: "86400"})
	_, problems = bind(t, c, step.ReadAPI{Path: "/v1/page"})
	assert.Contains(t, problems[0].Sentence, "429", "a wait of a day is none")
}

func TestAClaimedTotalIsComparedAndCallsAreLimited(t *testing.T) {
	_, _, s := council(t)
	c := open(t, s)
	b, problems := bind(t, c, step.ReadAPI{Path: "/v1/page", Paging: &paging.Paging{Kind: paging.None}, Total: "total"})
	require.Empty(t, problems)
	got, warnings, err := ids(t, b.Source)
	require.NoError(t, err)
	assert.Len(t, got, 50)
	assert.Equal(t, []string{"the API claims 230 records and gave 50"}, warnings)
	b, _ = bind(t, c, step.ReadAPI{Path: "/v1/page", Calls: 3})
	_, _, err = ids(t, b.Source)
	assert.ErrorContains(t, err, "3 requests were made, as many as the step allows")
	b, _ = bind(t, c, step.ReadAPI{Path: "/v1/cursor", Paging: &paging.Paging{Kind: paging.Cursor, At: "next_cursor", Param: "position"}})
	_, _, err = ids(t, b.Source)
	assert.ErrorContains(t, err, "was read already", "a wrong paging has an end")
}

func TestOnlyWhatIsNewIsAskedFor(t *testing.T) {
	_, _, s := council(t)
	c := open(t, s)
	b, problems := bind(t, c, step.ReadAPI{Path: "/v1/since", Growing: &step.APIGrowing{Param: "day_since", Column: "day", First: "2026-11-20"}})
	require.Empty(t, problems)
	source, reached, err := b.Source.(step.Positioned).From(t.Context(), step.Slice{})
	require.NoError(t, err)
	got, _, err := ids(t, source)
	require.NoError(t, err)
	assert.Len(t, got, 30)
	position, err := reached()
	require.NoError(t, err)
	assert.JSONEq(t, `{"column":"day","up_to":"2026-11-23"}`, string(position))
	source, _, err = b.Source.(step.Positioned).From(t.Context(), step.Slice{After: position})
	require.NoError(t, err)
	got, _, err = ids(t, source)
	require.NoError(t, err)
	assert.Empty(t, got)
	source, _, err = b.Source.(step.Positioned).From(t.Context(), step.Slice{UpTo: json.RawMessage(`{"column":"day","up_to":"2026-11-21"}`)})
	require.NoError(t, err)
	got, _, err = ids(t, source)
	require.NoError(t, err)
	assert.Len(t, got, 10, "an attempt done again leaves out what came after it")
}

func TestEveryWayOfSigningIn(t *testing.T) {
	api, server, s := council(t)
	for name, change := range map[string]func(*httpapi.Settings){
		httpapi.AuthBearer: func(s *httpapi.Settings) {},
		httpapi.AuthParam:  func(s *httpapi.Settings) { s.KeyName = "key" },
		httpapi.AuthBasic:  func(s *httpapi.Settings) { s.User, s.Password, s.Key = "larkfell", s.Key, "" },
		httpapi.AuthOAuth: func(s *httpapi.Settings) {
			s.TokenURL, s.ClientID, s.ClientSecret, s.Key = server.URL+"/token", "hut association", s.Key, ""
		},
	} {
		one := *s
		one.Auth = name
		change(&one)
		c := open(t, &one)
		b, problems := bind(t, c, step.ReadAPI{Path: "/v1/next"})
		require.Empty(t, problems, name)
		got, _, err := ids(t, b.Source)
		require.NoError(t, err, name)
		assert.Len(t, got, 230, name)
		for _, call := range b.Hint()["api"].(*step.APILook).Calls {
			assert.NotContains(t, call.Address, "a+key", name)
		}
	}
	bad := *s
	bad.Auth, bad.TokenURL, bad.ClientID, bad.ClientSecret = httpapi.AuthOAuth, server.URL+"/token", "hut association", "a wrong secret"
	_, problems := bind(t, open(t, &bad), step.ReadAPI{Path: "/v1/next"})
	require.NotEmpty(t, problems)
	assert.Contains(t, problems[0].Sentence, "no token is given")
	assert.NotContains(t, problems[0].Sentence, "a wrong secret")
	_ = api
}

func TestPrivateAddressesAreRefusedByRule(t *testing.T) {
	_, _, s := council(t)
	c, err := httpapi.Kind.Open(connect.WithRules(t.Context(), connect.Rules{PublicOnly: true}), s)
	require.NoError(t, err)
	_, problems := bind(t, c, step.ReadAPI{Path: "/v1/page"})
	require.NotEmpty(t, problems)
	assert.Contains(t, problems[0].Sentence, "private address")
}

func TestOwnCertificatesAreTrusted(t *testing.T) {
	api, _, s := council(t)
	server := httptest.NewTLSServer(api)
	defer server.Close()
	s.URL = server.URL
	_, problems := bind(t, open(t, s), step.ReadAPI{Path: "/v1/page"})
	require.NotEmpty(t, problems)
	assert.Contains(t, problems[0].Sentence, "a certificate that is not trusted")
	s.Certificates = way.Certificates{Authority: string(pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: server.Certificate().Raw}))}
	b, problems := bind(t, open(t, s), step.ReadAPI{Path: "/v1/page"})
	require.Empty(t, problems)
	got, _, err := ids(t, b.Source)
	require.NoError(t, err)
	assert.Len(t, got, 230)
}

func TestMistakesAreSaidAtTheirSetting(t *testing.T) {
	_, _, s := council(t)
	c := open(t, s)
	for want, settings := range map[string]step.ReadAPI{
		"path: 127.0.0.1:":                            {Path: "/v1/gone"},
		"path: no path yet":                           {},
		"path: the path stands":                       {Path: "https://other.example/v1"},
		"format: replies are":                         {Path: "/v1/page", Format: "tablets"},
		"paging: there is no":                         {Path: "/v1/page", Paging: &paging.Paging{Kind: "by hand"}},
		"paging: say at which":                        {Path: "/v1/page", Paging: &paging.Paging{Kind: paging.Cursor}},
		"calls: a run makes":                          {Path: "/v1/page", Calls: -1},
		"dialect: rows too":                           {Path: "/v1/csv", Dialect: &csv.Dialect{Short: "x"}},
		"params[0].value: the sheet has no parameter": {Path: "/v1/page", Params: []step.APIParam{{Name: "day", Value: ":day"}}},
		"growing.column: there is no column":          {Path: "/v1/page", Growing: &step.APIGrowing{Param: "since", Column: "night"}},
	} {
		_, problems := bind(t, c, settings)
		require.NotEmpty(t, problems, want)
		said := fmt.Sprintf("%s: %s", problems[0].Path, problems[0].Sentence)
		assert.True(t, strings.HasPrefix(said, want), said)
	}
	for want, change := range map[string]func(*httpapi.Settings){
		"url is missing": func(s *httpapi.Settings) { s.URL = "" }, "is no address": func(s *httpapi.Settings) { s.URL = "ftp://x" }, "holds a user": func(s *httpapi.Settings) { s.URL = "http://a:b@c" },
		"key is missing": func(s *httpapi.Settings) { s.Key = "" }, "no sign-in": func(s *httpapi.Settings) { s.Auth = "nod" }, "can't be sent": func(s *httpapi.Settings) { s.Headers = []httpapi.Header{{Name: "a\r\n"}} },
	} {
		one := *s
		change(&one)
		assert.ErrorContains(t, one.Validate(), want)
	}
	assert.True(t, slices.Contains(httpapi.Kind.Secrets, "client_secret"))
}
