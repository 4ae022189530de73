package paging

import (
	"context"
	"encoding/json"
	"fmt"
	"net/url"
	"slices"
	"sort"
	"strconv"
	"strings"
)

// TotalNames are how APIs call the number of all records.
var TotalNames = []string{"total", "total_count", "totalcount", "total_records", "totalrecords", "total_results", "totalresults", "total_items", "totalitems", "total_elements", "totalelements", "count_total", "record_count", "hits", "num_found", "numfound", "items_total", "claimed_total"}

var (
	nextNames   = []string{"next", "next_url", "nexturl", "next_link", "nextlink", "next_page_url", "nextpageurl", "next_href", "nexthref", "next_page", "@odata.nextlink", "odata.nextlink", "more_url", "continue_url"}
	cursorNames = []string{"next_cursor", "nextcursor", "cursor", "next_page_token", "nextpagetoken", "page_token", "next_token", "nexttoken", "continuation", "continuation_token", "continuationtoken", "end_cursor", "endcursor", "after", "scroll_id", "marker", "next_marker", "nextmarker", "bookmark", "offset_token", "resume_key", "since_id", "next"}
	pagesNames  = []string{"total_pages", "totalpages", "pages", "page_count", "pagecount", "last_page", "lastpage", "num_pages", "numpages"}
	pageNames   = []string{"page", "page_number", "pagenumber", "current_page", "currentpage", "pageno", "page_no", "page_index", "pageindex", "p", "number"}
	offsetNames = []string{"offset", "skip", "start", "from", "start_index", "startindex", "first"}
	sizeNames   = []string{"limit", "per_page", "perpage", "page_size", "pagesize", "size", "count", "max_results", "rows", "top", "take"}
	moreNames   = []string{"has_more", "hasmore", "more", "has_next", "hasnext", "has_next_page", "hasnextpage", "is_truncated"}
)

// Found is a way of paging with how it was found.
type Found struct {
	Paging Paging   `json:"paging"`
	Total  string   `json:"total,omitempty" doc:"Where the reply claims how many records there are."`
	Why    []string `json:"why"`
	Sure   bool     `json:"sure" doc:"A second page was read that way, and held other records."`
}

// Ask asks the API with further parameters, or at an address of its own.
type Ask func(ctx context.Context, f Follow) (Reply, []string, error)

// Find finds the way of an API. first is its first reply, without parameters for
// paging, and marks are its records as text, to tell pages apart; ask fetches others:
// a way counts as sure once a second page held other records.
func Find(ctx context.Context, first Reply, marks []string, ask Ask) (Found, error) {
	f := Found{Paging: Paging{Kind: None}}
	if at, v := pathTo(first.Body, TotalNames, isCount); at != "" {
		f.Total = at
		f.because("%s claims %v records", at, v)
	}
	if first.Records == 0 {
		f.because("the first reply holds no record, so there is nothing to follow")
		return f, nil
	}
	if total, ok := number(At(first.Body, f.Total)); ok && f.Total != "" && total == first.Records && linkNext(first.Header) == "" {
		f.because("the first reply holds all of them")
		f.Sure = true
		return f, nil
	}
	for _, candidate := range candidates(first) {
		if err := ctx.Err(); err != nil {
			return f, err
		}
		s := &State{}
		next, ok, err := candidate.paging.After(s, first)
		if err != nil || !ok {
			continue
		}
		reply, others, err := ask(ctx, next)
		if err != nil || reply.Records == 0 {
			if err == nil && candidate.certain { // an empty second page may be the end
				f.Paging = candidate.paging
				f.because("%s; the second page is empty", candidate.why)
				return f, nil
			}
			continue
		}
		if slices.Equal(marks, others) || overlap(marks, others)*2 > len(others) {
			continue // the parameter changes nothing
		}
		f.Paging, f.Sure = candidate.paging, true
		f.because("%s; a second page of %d records was read so", candidate.why, reply.Records)
		return f, nil
	}
	f.because("no second page was found, so one reply is taken for all of it")
	return f, nil
}

func (f *Found) because(format string, args ...any) {
	f.Why = append(f.Why, fmt.Sprintf(format, args...))
}

func overlap(a, b []string) int {
	have := map[string]bool{}
	for _, v := range a {
		have[v] = true
	}
	n := 0
	for _, v := range b {
		if have[v] {
			n++
		}
	}
	return n
}

type candidate struct {
	paging  Paging
	why     string
	certain bool // the reply itself says so
}

// candidates lists the ways a first reply suggests, the likeliest first.
func candidates(r Reply) []candidate {
	var out []candidate
	add := func(p Paging, certain bool, why string, args ...any) {
		out = append(out, candidate{p, fmt.Sprintf(why, args...), certain})
	}
	if linkNext(r.Header) != "" {
		add(Paging{Kind: Link}, true, "the header Link names the next address")
	}
	if at, v := pathTo(r.Body, nextNames, isAddress); at != "" {
		add(Paging{Kind: Next, At: at}, true, "%s holds the next address %v", at, v)
	}
	for _, at := range pathsTo(r.Body, cursorNames, isCursor) {
		key := at[strings.LastIndex(at, ".")+1:]
		for _, param := range cursorParams(key) {
			add(Paging{Kind: Cursor, At: at, Param: param}, false, "%s holds a cursor, which the parameter %s takes", at, param)
		}
	}
	size := sizeParam(r)
	pageAt, pageValue := pathTo(r.Body, pageNames, isCount)
	_, zero := number(pageValue)
	n, _ := number(pageValue)
	zero = zero && n == 0 && pageAt != ""
	pageParams, offsetParams := []string{"page", "page_number", "pageNumber", "p", "pg", "pageno"}, []string{"offset", "skip", "start", "from", "startIndex", "start_index"}
	pageParams = leading(pageParams, pageAt)
	offsetAt, _ := pathTo(r.Body, offsetNames, isCount)
	offsetParams = leading(offsetParams, offsetAt)
	pages := func() {
		for _, p := range pageParams {
			add(Paging{Kind: Page, Param: p, Zero: zero, Size: size.name, Rows: size.rows}, false, "the parameter %s takes the page's number", p)
		}
	}
	offsets := func() {
		for _, p := range offsetParams {
			add(Paging{Kind: Offset, Param: p, Size: size.name, Rows: size.rows}, false, "the parameter %s takes the number of records before", p)
		}
	}
	if offsetAt != "" && pageAt == "" {
		offsets()
		pages()
	} else {
		pages()
		offsets()
	}
	return out
}

type sizeFound struct {
	name string
	rows int
}

// sizeParam gives the size that the reply says a page has, where that is what it has.
func sizeParam(r Reply) sizeFound {
	at, v := pathTo(r.Body, sizeNames, isCount)
	if n, ok := number(v); ok && at != "" && n == r.Records && n > 1 {
		return sizeFound{at[strings.LastIndex(at, ".")+1:], n}
	}
	return sizeFound{}
}

// leading puts the last name of a path first.
func leading(list []string, at string) []string {
	if at == "" {
		return list
	}
	name := at[strings.LastIndex(at, ".")+1:]
	if strings.EqualFold(name, "current_page") || strings.EqualFold(name, "currentPage") {
		name = "page"
	}
	return append([]string{name}, slices.DeleteFunc(slices.Clone(list), func(v string) bool { return v == name })...)
}

// cursorParams lists the parameters that may take a cursor found under a key.
func cursorParams(key string) []string {
	out := []string{}
	add := func(names ...string) {
		for _, n := range names {
			if n != "" && !slices.Contains(out, n) {
				out = append(out, n)
			}
		}
	}
	lower := strings.ToLower(key)
	switch {
	case strings.Contains(lower, "token"):
		add(strings.TrimPrefix(key, "next_"), lowerFirst(strings.TrimPrefix(key, "next")), key, "page_token", "pageToken", "token", "continuation_token")
	case strings.Contains(lower, "marker"):
		add("marker", key)
	case strings.Contains(lower, "scroll"):
		add(key, "scroll")
	}
	add(strings.TrimPrefix(key, "next_"), lowerFirst(strings.TrimPrefix(key, "next")), key, "cursor", "after", "starting_after", "page_token", "continuation", "next", "since", "position")
	return out
}

func lowerFirst(s string) string {
	if s == "" {
		return s
	}
	return strings.ToLower(s[:1]) + s[1:]
}

// At gives the value at a path of keys, nil where there is none.
func At(body any, path string) any {
	if path == "" {
		return body
	}
	v := body
	for _, key := range strings.Split(path, ".") {
		object, ok := v.(map[string]any)
		if !ok {
			return nil
		}
		v = object[key]
	}
	return v
}

func textAt(body any, path string) string {
	switch v := At(body, path).(type) {
	case string:
		return v
	case json.Number:
		return v.String()
	}
	return ""
}

func number(v any) (int, bool) {
	switch v := v.(type) {
	case json.Number:
		n, err := strconv.Atoi(v.String())
		return n, err == nil
	case string:
		n, err := strconv.Atoi(v)
		return n, err == nil
	}
	return 0, false
}

func isCount(v any) bool {
	n, ok := number(v)
	return ok && n >= 0
}

func isAddress(v any) bool {
	text, ok := v.(string)
	if !ok || text == "" {
		return false
	}
	u, err := url.Parse(text)
	return err == nil && (u.Scheme == "http" || u.Scheme == "https" || strings.HasPrefix(text, "/") || strings.HasPrefix(text, "?"))
}

func isCursor(v any) bool {
	switch v := v.(type) {
	case string:
		return v != "" && !isAddress(v)
	case json.Number:
		return true
	}
	return false
}

// pathTo finds the least deep value under one of the names that fits.
func pathTo(body any, names []string, fits func(any) bool) (string, any) {
	for _, p := range pathsTo(body, names, fits) {
		return p, At(body, p)
	}
	return "", nil
}

// pathsTo finds the values under names that fit, in objects alone and not in records:
// the least deep first, and of them in the order of the names.
func pathsTo(body any, names []string, fits func(any) bool) []string {
	type hit struct {
		path        string
		depth, rank int
	}
	var hits []hit
	var walk func(v any, path string, depth int)
	walk = func(v any, path string, depth int) {
		object, ok := v.(map[string]any)
		if !ok || depth > 4 {
			return
		}
		for key, inner := range object {
			at := key
			if path != "" {
				at = path + "." + key
			}
			if rank := slices.Index(names, strings.ToLower(key)); rank >= 0 && fits(inner) {
				hits = append(hits, hit{at, depth, rank})
			}
			walk(inner, at, depth+1)
		}
	}
	walk(body, "", 0)
	sort.Slice(hits, func(i, k int) bool {
		a, b := hits[i], hits[k]
		if a.depth != b.depth {
			return a.depth < b.depth
		}
		if a.rank != b.rank {
			return a.rank < b.rank
		}
		return a.path < b.path
	})
	out := make([]string, len(hits))
	for i, h := range hits {
		out[i] = h.path
	}
	return out
}

func find(body any, names []string) any {
	_, v := pathTo(body, names, func(any) bool { return true })
	return v
}
