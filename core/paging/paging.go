// Package paging knows how the pages of an HTTP API follow each other: paging.go says
// what comes after a reply, find.go finds out which way an API has by its first
// replies. It asks nobody itself.
package paging

import (
	"fmt"
	"net/url"
	"slices"
	"strconv"
	"strings"
)

// The ways in which pages follow each other.
const (
	None   = "none"        // one reply has everything
	Link   = "link header" // the header Link names the next address (RFC 8288)
	Next   = "next address"
	Cursor = "cursor"
	Page   = "page number"
	Offset = "offset"
)

// Kinds lists the ways.
func Kinds() []string { return []string{None, Link, Next, Cursor, Page, Offset} }

// Paging says how the next page is asked for.
type Paging struct {
	Kind  string `json:"kind" yaml:"kind" jsonschema:"title=way,enum=none,enum=link header,enum=next address,enum=cursor,enum=page number,enum=offset"`
	At    string `json:"at,omitempty" yaml:"at,omitempty" jsonschema:"title=found at,description=The path in the reply to the next address or the cursor"`
	Param string `json:"param,omitempty" yaml:"param,omitempty" jsonschema:"title=parameter,description=Which takes the cursor or page or offset"`
	First int    `json:"first,omitempty" yaml:"first,omitempty" jsonschema:"title=first page,description=Number of the first page: 1 when left out"`
	Zero  bool   `json:"zero,omitempty" yaml:"zero,omitempty" jsonschema:"title=counts from 0,description=The first page is number 0"`
	Size  string `json:"size_param,omitempty" yaml:"size_param,omitempty" jsonschema:"title=size parameter,description=Which takes the number of records of a page"`
	Rows  int    `json:"size,omitempty" yaml:"size,omitempty" jsonschema:"title=page size,description=Records of a page to ask for"`
}

// Validate says what is wrong, or nil.
func (p Paging) Validate() error {
	switch {
	case !slices.Contains(Kinds(), p.Kind):
		return fmt.Errorf("there is no way %q; there are %s", p.Kind, strings.Join(Kinds(), ", "))
	case (p.Kind == Next || p.Kind == Cursor) && p.At == "":
		return fmt.Errorf("say at which path of the reply the %s stands", p.Kind)
	case (p.Kind == Cursor || p.Kind == Page || p.Kind == Offset) && p.Param == "":
		return fmt.Errorf("say which parameter takes the %s", p.Kind)
	case p.Rows < 0 || p.Rows > 0 && p.Size == "":
		return fmt.Errorf("a page size needs the parameter that takes it")
	}
	return nil
}

// Reply is what is looked at of a reply.
type Reply struct {
	Address string
	Header  map[string][]string
	Body    any // as batch.ParseJSON gives it; nil for other forms
	Records int
	Params  url.Values // with which it was asked for
}

// State is how far one came.
type State struct {
	Pages   int
	Records int
	seen    map[string]bool
}

// Begin gives the parameters of the first request besides those of the step.
func (p Paging) Begin() url.Values {
	out := url.Values{}
	if p.Size != "" && p.Rows > 0 {
		out.Set(p.Size, strconv.Itoa(p.Rows))
	}
	switch p.Kind {
	case Page:
		out.Set(p.Param, strconv.Itoa(p.first()))
	case Offset:
		out.Set(p.Param, "0")
	}
	return out
}

func (p Paging) first() int {
	if p.Zero {
		return 0
	}
	return max(p.First, 1)
}

// Follow is how the next page is asked for: by an address of its own, or by
// parameters that take the place of those before.
type Follow struct {
	Address string
	Params  url.Values
}

// After gives what follows a reply; ok is false behind the last page. A cursor or
// address that comes again is an error, since there would be no end.
func (p Paging) After(s *State, r Reply) (next Follow, ok bool, err error) {
	s.Pages++
	s.Records += r.Records
	if s.seen == nil {
		s.seen = map[string]bool{}
	}
	fresh := func(mark string) error {
		if s.seen[mark] {
			return fmt.Errorf("page %d leads back to %q, which was read already; the paging found is wrong, or the API's", s.Pages, mark)
		}
		s.seen[mark] = true
		return nil
	}
	switch p.Kind {
	case Link:
		address := linkNext(r.Header)
		if address == "" {
			return next, false, nil
		}
		if address, err = resolve(r.Address, address); err != nil {
			return next, false, err
		}
		return Follow{Address: address}, true, fresh(address)
	case Next:
		text := textAt(r.Body, p.At)
		if text == "" {
			return next, false, nil
		}
		address, err := resolve(r.Address, text)
		if err != nil {
			return next, false, err
		}
		return Follow{Address: address}, true, fresh(address)
	case Cursor:
		cursor := textAt(r.Body, p.At)
		if cursor == "" || cursor == "false" {
			return next, false, nil
		}
		params := p.Begin()
		params.Set(p.Param, cursor)
		return Follow{Params: params}, true, fresh(cursor)
	case Page, Offset:
		if r.Records == 0 || p.Rows > 0 && r.Records < p.Rows || lastByItself(r.Body, s) {
			return next, false, nil
		}
		params := p.Begin()
		if p.Kind == Page {
			params.Set(p.Param, strconv.Itoa(p.first()+s.Pages))
		} else {
			params.Set(p.Param, strconv.Itoa(s.Records))
		}
		return Follow{Params: params}, true, nil
	}
	return next, false, nil
}

// lastByItself tells whether a reply says that nothing follows: by the number of
// pages, by its total, or by a word such as has_more.
func lastByItself(body any, s *State) bool {
	if n, ok := number(find(body, pagesNames)); ok && n > 0 && s.Pages >= n {
		return true
	}
	if v, ok := find(body, moreNames).(bool); ok && !v {
		return true
	}
	n, ok := number(find(body, TotalNames))
	return ok && n > 0 && s.Records >= n
}

func resolve(base, address string) (string, error) {
	from, err := url.Parse(base)
	if err != nil {
		return "", err
	}
	to, err := from.Parse(address)
	if err != nil {
		return "", fmt.Errorf("the next address %q is none", address)
	}
	if to.Host != from.Host || to.Scheme != from.Scheme {
		return "", fmt.Errorf("the next address %s lies on another machine; keys are sent to %s alone", to.Host, from.Host)
	}
	return to.String(), nil
}

// linkNext finds the address of rel=next in the headers.
func linkNext(header map[string][]string) string {
	for name, values := range header {
		if !strings.EqualFold(name, "Link") {
			continue
		}
		for _, value := range values {
			for _, link := range strings.Split(value, ",") {
				address, rest, ok := strings.Cut(strings.TrimSpace(link), ">")
				if ok && strings.HasPrefix(address, "<") && isNext(rest) {
					return address[1:]
				}
			}
		}
	}
	return ""
}

func isNext(attributes string) bool {
	for _, a := range strings.Split(attributes, ";") {
		name, value, _ := strings.Cut(strings.TrimSpace(a), "=")
		if strings.EqualFold(name, "rel") && slices.Contains(strings.Fields(strings.ToLower(strings.Trim(value, `"`))), "next") {
			return true
		}
	}
	return false
}
