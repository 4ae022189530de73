package step

import (
	"cmp"
	"context"
	"fmt"
	"io"
	"net/url"
	"path"
	"regexp"
	"slices"
	"strings"

	"github.com/bmatcuk/doublestar/v4"

	"welkin/core/format"
	"welkin/core/format/archive"
	"welkin/core/format/form"
	"welkin/core/schema"
)

// namePart is a part of a file's name that becomes a column, such as {hut} in
// warden_log_{hut}_{day}.csv.
var namePart = regexp.MustCompile(`\{([A-Za-z_][A-Za-z0-9_ ]*)\}`)

// filePattern is a pattern of file names whose parts may be named.
type filePattern struct {
	glob  string
	parts []string
	named *regexp.Regexp // nil without named parts
}

func parsePattern(text string) (filePattern, error) {
	p := filePattern{glob: namePart.ReplaceAllString(text, "*")}
	if !doublestar.ValidatePattern(p.glob) {
		return p, fmt.Errorf("%q is not a pattern of file names", text)
	}
	marks := namePart.FindAllStringSubmatchIndex(text, -1)
	if marks == nil {
		return p, nil
	}
	form, at := "^", 0
	for _, m := range marks {
		form += globForm(text[at:m[0]]) + `([^/]+?)`
		p.parts = append(p.parts, text[m[2]:m[3]])
		at = m[1]
	}
	named, err := regexp.Compile(form + globForm(text[at:]) + "$")
	if err != nil {
		return p, fmt.Errorf("%q can't be a pattern with named parts", text)
	}
	p.named = named
	return p, nil
}

// globForm writes a pattern of names as a regular expression.
func globForm(glob string) string {
	return strings.NewReplacer(`\*\*/`, `(?:.*/)?`, `\*\*`, `.*`, `\*`, `[^/]*`, `\?`, `[^/]`).Replace(regexp.QuoteMeta(glob))
}

// inArchives gives Files whose archives are folders.
type inArchives struct{ Files }

// Match implements Files.
func (a inArchives) Match(ctx context.Context, pattern string) ([]FileInfo, error) {
	outer, inner, ok := archive.Split(pattern)
	if !ok {
		return a.Files.Match(ctx, pattern)
	}
	found, err := a.Files.Match(ctx, outer)
	if err != nil {
		return nil, err
	}
	var out []FileInfo
	for _, f := range found {
		entries, err := a.entries(ctx, f.Name)
		if err != nil {
			return nil, err
		}
		for _, e := range entries {
			if fits, _ := doublestar.Match(inner, e.Name); fits {
				changed := e.Changed
				if f.Changed.After(changed) {
					changed = f.Changed
				}
				out = append(out, FileInfo{Name: f.Name + "/" + e.Name, Size: e.Size, Changed: changed})
			}
		}
	}
	slices.SortFunc(out, func(x, y FileInfo) int { return cmp.Compare(x.Name, y.Name) })
	return out, nil
}

func (a inArchives) entries(ctx context.Context, name string) ([]archive.Entry, error) {
	r, err := a.outer(ctx, name)
	if err != nil {
		return nil, err
	}
	defer r.Close()
	return archive.List(name, r)
}

// outer opens an archive; a zip archive so that it can be read at any place.
func (a inArchives) outer(ctx context.Context, name string) (io.ReadCloser, error) {
	r, err := a.Files.Open(ctx, name)
	if err != nil {
		return nil, err
	}
	if _, ok := r.(format.Random); ok || !strings.HasSuffix(strings.ToLower(name), ".zip") {
		return r, nil
	}
	defer r.Close()
	return form.Spool(r)
}

// Open implements Files.
func (a inArchives) Open(ctx context.Context, name string) (io.ReadCloser, error) {
	outer, inner, ok := archive.Split(name)
	if !ok {
		return a.Files.Open(ctx, name)
	}
	r, err := a.outer(ctx, outer)
	if err != nil {
		return nil, err
	}
	entry, err := archive.Open(outer, r, inner)
	if err != nil {
		_ = r.Close()
		return nil, err
	}
	return struct {
		io.Reader
		io.Closer
	}{entry, both{entry, r}}, nil
}

// both closes one behind the other.
type both struct{ first, second io.Closer }

func (b both) Close() error {
	err := b.first.Close()
	_ = b.second.Close()
	return err
}

// parted gives the files that fit patterns, each once, with what the parts of their
// names say: parts named in the pattern, and folders called key=value.
func parted(ctx context.Context, files Files, patterns []string) ([]fileAt, *schema.Schema, error) {
	var out []fileAt
	var names []string // of the parts
	values := map[string]map[string]string{}
	seen := map[string]bool{}
	for _, text := range patterns {
		p, err := parsePattern(text)
		if err != nil {
			return nil, nil, err
		}
		matched, err := files.Match(ctx, p.glob)
		if err != nil {
			return nil, nil, err
		}
		for _, f := range matched {
			if seen[f.Name] {
				continue
			}
			seen[f.Name] = true
			said := map[string]string{}
			if p.named != nil {
				m := p.named.FindStringSubmatch(f.Name)
				if m == nil {
					continue
				}
				for i, name := range p.parts {
					said[name] = m[i+1]
					names = appendNew(names, name)
				}
			}
			for _, folder := range strings.Split(path.Dir(f.Name), "/") {
				if key, value, ok := strings.Cut(folder, "="); ok && key != "" {
					if plain, err := url.PathUnescape(value); err == nil {
						value = plain
					}
					said[key] = value
					names = appendNew(names, key)
				}
			}
			values[f.Name] = said
			out = append(out, fileAt{FileInfo: f})
		}
	}
	columns := &schema.Schema{}
	for _, name := range names {
		g := format.Guess{}
		for _, f := range out {
			text := partText(values[f.Name][name])
			if len(text) == 2 { // months and days are numbers, though they have two digits
				text = strings.TrimPrefix(text, "0")
			}
			g.Add(text)
		}
		columns.Columns = append(columns.Columns, schema.Column{Name: name, Type: g.Type(), Nullable: true, Description: "from the file's name"})
	}
	for i := range out {
		for _, name := range names {
			var v *string
			if text := partText(values[out[i].Name][name]); text != "" {
				v = &text
			}
			out[i].parts = append(out[i].parts, v)
		}
	}
	return out, columns, nil
}

// nullFolder is how writers of partition folders call a value that is null.
const nullFolder = "__HIVE_DEFAULT_PARTITION__"

func partText(v string) string {
	if v == nullFolder {
		return ""
	}
	return v
}

func appendNew(list []string, v string) []string {
	if slices.Contains(list, v) {
		return list
	}
	return append(list, v)
}

// formOf finds the form of one file.
func formOf(ctx context.Context, files Files, name string, f form.Form) (form.Found, error) {
	return form.Find(ctx, name, func(ctx context.Context) (io.ReadCloser, error) { return files.Open(ctx, name) }, f, false)
}
