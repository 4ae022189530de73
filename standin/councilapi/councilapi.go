// Package councilapi is a simulated HTTP API of the regional council: it asks for a
// key, gives its records page by page in several ways and forms, claims a total, keeps
// to a rate, and fails now and then, or as often as one asks it to.
package councilapi

import (
	"encoding/csv"
	"encoding/json"
	"encoding/xml"
	"fmt"
	"net/http"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"
)

// Record is one record; its columns are in the order of the collection's.
type Record []string

// Collection is what one path gives.
type Collection struct {
	Columns []string
	Records []Record
	Way     string // how pages follow each other: page, offset, cursor, next or link; "" for one reply
	Form    string // json, xml or csv
	Inside  string // the key under which records stand in JSON; "" for an array alone
	Size    int    // records of a page
	Since   string // a parameter that takes the least value of the column of that name, without "_since"
}

// API is the simulated API. It is an http.Handler.
type API struct {
	Key         string // expected in the header X-Api-Key, as bearer token, or in the parameter key
	User        string // for user and password
	Client      string // for client credentials at /token
	Collections map[string]Collection
	Rate        int // requests a second; more are answered with 429, 0 for any
	FailEach    int // each so many requests one fails with 503, 0 for none
	Clock       func() time.Time

	mu     sync.Mutex
	second time.Time
	count  int
	asked  int
	tokens int
	plan   []Fault
}

// Fault is what the next request meets instead of its reply.
type Fault struct {
	Status     int
	RetryAfter string
	Cut        bool // the reply ends in the middle
}

// Plan makes the next requests fail, one after the other.
func (a *API) Plan(faults ...Fault) {
	a.mu.Lock()
	defer a.mu.Unlock()
	a.plan = append(a.plan, faults...)
}

// Asked counts the requests for records so far.
func (a *API) Asked() int {
	a.mu.Lock()
	defer a.mu.Unlock()
	return a.asked
}

// Revoke makes tokens given so far worthless.
func (a *API) Revoke() {
	a.mu.Lock()
	defer a.mu.Unlock()
	a.tokens++
}

// ServeHTTP implements http.Handler.
func (a *API) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	if r.URL.Path == "/token" {
		a.token(w, r)
		return
	}
	if !a.known(r) {
		problem(w, http.StatusUnauthorized, "the key is missing or wrong")
		return
	}
	c, ok := a.Collections[r.URL.Path]
	if !ok {
		problem(w, http.StatusNotFound, "there is nothing at "+r.URL.Path)
		return
	}
	fault, bad := a.next()
	if bad && !fault.Cut {
		if fault.RetryAfter != "" {
			w.Header().Set("Retry-After", fault.RetryAfter)
		}
		problem(w, fault.Status, "try again later")
		return
	}
	text, err := a.reply(w, r, c)
	if err != nil {
		problem(w, http.StatusBadRequest, err.Error())
		return
	}
	if bad {
		w.Header().Set("Content-Length", strconv.Itoa(len(text)))
		_, _ = w.Write(text[:len(text)/2])
		_ = http.NewResponseController(w).Flush()
		panic(http.ErrAbortHandler)
	}
	_, _ = w.Write(text)
}

func problem(w http.ResponseWriter, status int, said string) {
	w.Header().Set("Content-Type", "application/json")
	w.WriteHeader(status)
	_ = json.NewEncoder(w).Encode(map[string]string{"error": said})
}

func (a *API) known(r *http.Request) bool {
	user, password, basic := r.BasicAuth()
	a.mu.Lock()
	token := a.current()
	a.mu.Unlock()
	switch {
	case r.Header.Get("X-Api-Key") == a.Key, r.URL.Query().Get("key") == a.Key, r.Header.Get("Authorization") == "Bearer "+a.Key:
		return true
	case basic:
		return user == a.User && password == a.Key
	}
	return a.Client != "" && r.Header.Get("Authorization") == "Bearer "+token
}

func (a *API) current() string { return fmt.Sprintf("token %d of %s", a.tokens, a.Client) }

// token changes client credentials into a token that lives for a minute (RFC 6749,
// 4.4).
func (a *API) token(w http.ResponseWriter, r *http.Request) {
	id, secret, ok := r.BasicAuth()
	if !ok {
		id, secret = r.FormValue("client_id"), r.FormValue("client_secret")
	}
	if a.Client == "" || id != a.Client || secret != a.Key || r.FormValue("grant_type") != "client_credentials" {
		problem(w, http.StatusUnauthorized, "invalid_client")
		return
	}
	a.mu.Lock()
	a.tokens++
	token := a.current()
	a.mu.Unlock()
	w.Header().Set("Content-Type", "application/json")
	_ = json.NewEncoder(w).Encode(map[string]any{"access_token": token, "token_type": "Bearer", "expires_in": 60})
}

// next counts a request and tells what it meets.
func (a *API) next() (Fault, bool) {
	a.mu.Lock()
	defer a.mu.Unlock()
	a.asked++
	if len(a.plan) > 0 {
		f := a.plan[0]
		a.plan = a.plan[1:]
		return f, f != Fault{}
	}
	now := time.Now()
	if a.Clock != nil {
		now = a.Clock()
	}
	if now.Sub(a.second) >= time.Second {
		a.second, a.count = now, 0
	}
	if a.count++; a.Rate > 0 && a.count > a.Rate {
		return Fault{Status: http.StatusTooManyRequests, RetryAfter: "1"}, true
	}
	if a.FailEach > 0 && a.asked%a.FailEach == 0 {
		return Fault{Status: http.StatusServiceUnavailable}, true
	}
	return Fault{}, false
}

func (a *API) reply(w http.ResponseWriter, r *http.Request, c Collection) ([]byte, error) {
	q := r.URL.Query()
	records := c.Records
	if c.Since != "" && q.Get(c.Since) != "" {
		at := slices.Index(c.Columns, strings.TrimSuffix(c.Since, "_since"))
		records = slices.DeleteFunc(slices.Clone(records), func(r Record) bool { return at >= 0 && r[at] <= q.Get(c.Since) })
	}
	size := len(records)
	if c.Way != "" && c.Size > 0 {
		size = c.Size
	}
	if n, err := strconv.Atoi(q.Get("limit")); err == nil && n > 0 && c.Way != "" {
		size = min(n, c.Size)
	}
	from, err := start(c, q, size)
	if err != nil {
		return nil, err
	}
	from = min(from, len(records))
	to := min(from+size, len(records))
	page := records[from:to]
	more := to < len(records)
	address := func(param, value string) string {
		next := url.Values{}
		for k, v := range q {
			if k != "key" {
				next[k] = v
			}
		}
		next.Set(param, value)
		scheme := "http"
		if r.TLS != nil {
			scheme = "https"
		}
		return scheme + "://" + r.Host + r.URL.Path + "?" + next.Encode()
	}
	around := map[string]any{}
	switch c.Way {
	case "page":
		around["page"], around["total"] = from/max(size, 1)+1, len(records)
	case "offset":
		around["offset"], around["total"] = from, len(records)
	case "cursor":
		around["next_cursor"] = nil
		if more {
			around["next_cursor"] = fmt.Sprintf("after-%d", to)
		}
	case "next":
		around["next"] = nil
		if more {
			around["next"] = address("from", strconv.Itoa(to))
		}
		around["total"] = len(records)
	case "link":
		if more {
			w.Header().Set("Link", fmt.Sprintf("<%s>; rel=\"next\", <%s>; rel=\"first\"", address("from", strconv.Itoa(to)), address("from", "0")))
		}
	}
	return encode(w, c, page, around)
}

func start(c Collection, q url.Values, size int) (int, error) {
	param := map[string]string{"page": "page", "offset": "offset", "cursor": "cursor", "next": "from", "link": "from"}[c.Way]
	text := strings.TrimPrefix(q.Get(param), "after-")
	if param == "" || text == "" {
		return 0, nil
	}
	n, err := strconv.Atoi(text)
	if err != nil || n < 0 {
		return 0, fmt.Errorf("%s is not %q", param, text)
	}
	if c.Way == "page" {
		return max(n-1, 0) * size, nil
	}
	return n, nil
}

func encode(w http.ResponseWriter, c Collection, page []Record, around map[string]any) ([]byte, error) {
	switch c.Form {
	case "csv":
		w.Header().Set("Content-Type", "text/csv; charset=utf-8")
		var out strings.Builder
		lines := csv.NewWriter(&out)
		_ = lines.Write(c.Columns)
		for _, r := range page {
			_ = lines.Write(r)
		}
		lines.Flush()
		return []byte(out.String()), lines.Error()
	case "xml":
		w.Header().Set("Content-Type", "application/xml")
		var out strings.Builder
		out.WriteString(`<?xml version="1.0" encoding="UTF-8"?><reply><records>`)
		for _, r := range page {
			out.WriteString("<record>")
			for i, name := range c.Columns {
				out.WriteString("<" + name + ">")
				_ = xml.EscapeText(&out, []byte(r[i]))
				out.WriteString("</" + name + ">")
			}
			out.WriteString("</record>")
		}
		out.WriteString("</records></reply>")
		return []byte(out.String()), nil
	}
	w.Header().Set("Content-Type", "application/json")
	records := make([]json.RawMessage, len(page))
	for i, r := range page {
		records[i] = object(c.Columns, r)
	}
	if c.Inside == "" {
		return json.Marshal(records)
	}
	around[c.Inside] = records
	return json.Marshal(around)
}

// object writes a record in JSON: numbers as numbers, empty values as null.
func object(columns []string, r Record) json.RawMessage {
	out := []byte{'{'}
	for i, name := range columns {
		if i > 0 {
			out = append(out, ',')
		}
		key, _ := json.Marshal(name)
		out = append(append(out, key...), ':')
		v := r[i]
		if _, err := strconv.ParseFloat(v, 64); err == nil && json.Valid([]byte(v)) {
			out = append(out, v...)
			continue
		}
		switch v {
		case "":
			out = append(out, "null"...)
			continue
		case "true", "false":
			out = append(out, v...)
			continue
		}
		text, _ := json.Marshal(v)
		out = append(out, text...)
	}
	return append(out, '}')
}
