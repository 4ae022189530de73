package step

import (
	"errors"
	"fmt"
	"slices"
	"strings"

	"github.com/apache/arrow-go/v18/arrow/array"

	"welkin/core/batch"
	"welkin/core/expr"
	"welkin/core/format"
	"welkin/core/format/csv"
	"welkin/core/format/excel"
	"welkin/core/format/fixed"
	"welkin/core/format/form"
	"welkin/core/schema"
)

var readFiles = Kind{
	Name: "read files", Role: Read, New: func() Settings { return &ReadFiles{} },
	Help:    "Reads CSV and its relatives, JSON, XML, Parquet, Avro, workbooks or text of fixed width, compressed or in archives; one file or many of a pattern.",
	Example: "warden_log_{hut}_{day}.csv from incoming",
	Words:   "csv json xml excel avro parquet source import file folder open fixed width zip archive layout",
}

// ReadFiles reads files. What is left out is found by looking at the first file.
type ReadFiles struct {
	Connection string        `json:"connection" jsonschema:"title=connection,format=files"`
	Files      string        `json:"files" jsonschema:"title=files,description=A name or a pattern; * stands for anything and {name} for a part that becomes a column; an archive is a folder"`
	Also       []string      `json:"also,omitempty" jsonschema:"title=and,description=Further names or patterns"`
	Format     string        `json:"format,omitempty" jsonschema:"title=format,default=found by looking,enum=csv,enum=json,enum=json lines,enum=xml,enum=parquet,enum=avro,enum=excel,enum=fixed width"`
	Dialect    *csv.Dialect  `json:"dialect,omitempty" jsonschema:"title=dialect,description=How the files are written; found by itself when left out"`
	Records    string        `json:"records,omitempty" jsonschema:"title=records,description=Where the records stand: a path such as data.items in JSON or an element in XML"`
	Workbook   *excel.Place  `json:"workbook,omitempty" jsonschema:"title=workbook,description=Sheet and range; found by itself when left out"`
	Layout     string        `json:"layout,omitempty" jsonschema:"title=layout,description=A saved record layout for text of fixed width,format=layout"`
	Fields     *fixed.Layout `json:"fields,omitempty" jsonschema:"title=own layout,description=A record layout of this step alone"`
	Record     string        `json:"record,omitempty" jsonschema:"title=record type,description=Reads records of this type alone"`
	Columns    []FileColumn  `json:"columns,omitempty" jsonschema:"title=columns,description=Names and types; found from a sample when left out"`
	Nulls      []string      `json:"nulls,omitempty" jsonschema:"title=null texts,description=Texts that mean null such as n/a; an empty value always does"`
	Differ     string        `json:"differ,omitempty" jsonschema:"title=files that differ,description=What becomes of files whose columns are not those of the first,default=stop where a column lacks,enum=union,enum=common,enum=refuse,enum=by shape"`
	Only       string        `json:"only,omitempty" jsonschema:"title=only files where,description=A condition on the parts of the name; others are not opened,format=expression"`
	Take       string        `json:"take,omitempty" jsonschema:"title=take,description=All files each time or those that no run has read yet,enum=all,enum=new"`
	Order      string        `json:"order,omitempty" jsonschema:"title=order,enum=name,enum=time"`
	Most       int           `json:"most,omitempty" jsonschema:"title=at most,description=Files that a run takes; all when left out"`
	FileAs     string        `json:"file_as,omitempty" jsonschema:"title=file name as,description=A column that holds the file's name"`
	RowAs      string        `json:"row_as,omitempty" jsonschema:"title=row number as,description=A column that holds the row's number in its file"`
}

// What becomes of files whose columns differ. When nothing is said, a column that a
// file has more is left out and one that it lacks ends the run.
const (
	DifferUnion  = "union"
	DifferCommon = "common"
	DifferRefuse = "refuse"
	DifferShape  = "by shape"
)

// TakeNew reads only files that no run has read.
const TakeNew = "new"

// FileColumn is a column wanted from files.
type FileColumn struct {
	Name  string      `json:"name" jsonschema:"title=name"`
	Type  schema.Type `json:"type" jsonschema:"title=type,type=string"`
	Width int         `json:"width,omitempty" jsonschema:"title=width,description=Characters the column takes in each line; for text of fixed width and then for every column"`
}

// ReadColumn is a column by its name and type.
type ReadColumn struct {
	Name string      `json:"name" jsonschema:"title=name"`
	Type schema.Type `json:"type" jsonschema:"title=type,type=string"`
}

// Sentence implements Settings.
func (s *ReadFiles) Sentence() string {
	what := "`" + orElse(s.Files, "…") + "`"
	if n := len(s.Also); n > 0 {
		what += fmt.Sprintf(" and %d more", n)
	}
	if s.Take == TakeNew {
		what = "new files " + what
	}
	if s.Record != "" {
		what = "`" + s.Record + "` records of " + what
	}
	return "read " + what + " from " + orElse(s.Connection, "…")
}

// Bind implements Settings.
func (s *ReadFiles) Bind(c *Context, _ []*schema.Schema) *Bound {
	f := s.check(c)
	if c.Failed() {
		return nil
	}
	place, err := c.World.Files(c, s.Connection)
	if err != nil {
		c.Problem("connection", "%s", err)
		return nil
	}
	files := inArchives{place}
	matched, parts, err := parted(c, files, append([]string{s.Files}, s.Also...))
	if err != nil {
		c.Problem("files", "%s", err)
		return nil
	}
	if len(matched) == 0 {
		c.Problem("files", "no file fits %q in %s", s.Files, s.Connection)
		return nil
	}
	s.arrange(matched)
	if matched = s.only(c, matched, parts); c.Failed() {
		return nil
	}
	if s.Take != TakeNew && s.Most > 0 && len(matched) > s.Most {
		matched = matched[:s.Most]
	}
	found, at, err := s.look(c, files, matched, f)
	if err != nil {
		c.Problem(at, "%s", err)
		return nil
	}
	source := &fileSource{files: files, matched: matched, form: found.Form, fileAs: s.FileAs != "", rowAs: s.RowAs != "", strict: s.Differ == DifferRefuse, missing: s.Differ == DifferUnion}
	bound := s.shape(c, source, found, parts)
	if bound == nil {
		return nil
	}
	bound.Hint = func() map[string]any {
		list := make([]FileInfo, 0, 50)
		for _, m := range matched[:min(len(matched), 50)] {
			list = append(list, m.FileInfo)
		}
		return map[string]any{"found": s.hint(found), "files": list, "count": len(matched)}
	}
	bound.Source = source
	if found.Form.Format == form.Parquet && s.Differ != DifferShape {
		bound.Source = &parquetSource{source}
	}
	if s.Take == TakeNew {
		bound.Source = &newFiles{bound.Source, source, s.Most}
	}
	return bound
}

// hint is what the screen shows of what was found.
func (s *ReadFiles) hint(found form.Found) map[string]any {
	out := map[string]any{"format": found.Form.Format, "why": append([]string{}, found.Why...)}
	switch found.Form.Format {
	case form.CSV:
		out["dialect"] = found.Form.Dialect
	case form.Fixed:
		out["layout"] = found.Form.Layout
	case form.Excel:
		out["workbook"], out["sheets"] = found.Form.Place, found.Sheets
	case form.JSON, form.XML:
		out["records"] = found.Form.Records
	}
	return out
}

// check says what is wrong with the settings by themselves, and gives the form they
// ask for.
func (s *ReadFiles) check(c *Context) form.Form {
	f := form.Form{Format: s.Format, Dialect: s.Dialect, Records: s.Records, Record: s.Record, Layout: s.Fields, Nulls: s.Nulls}
	if s.Connection == "" {
		c.Problem("connection", "no connection yet; choose one that holds files")
	}
	if s.Files == "" {
		c.Problem("files", "no files yet; give a name or a pattern such as warden_log_*.csv")
	}
	if s.Format != "" && !slices.Contains(form.Names(), s.Format) {
		c.Problem("format", "there is no format %q; there are %s", s.Format, strings.Join(form.Names(), ", "))
	}
	if s.Dialect != nil {
		if err := s.Dialect.Validate(); err != nil {
			c.Problem("dialect", "%s", err)
		}
	}
	if s.Workbook != nil {
		f.Place = *s.Workbook
		if err := s.Workbook.Validate(); err != nil {
			c.Problem("workbook", "%s", err)
		}
	}
	if s.Differ != "" && !slices.Contains([]string{DifferUnion, DifferCommon, DifferRefuse, DifferShape}, s.Differ) {
		c.Problem("differ", "files that differ are read as union, common, refuse or by shape, not as %q", s.Differ)
	}
	if s.Order != "" && s.Order != "name" && s.Order != "time" {
		c.Problem("order", "files are taken by name or by time, not by %q", s.Order)
	}
	if s.Take != "" && s.Take != "all" && s.Take != TakeNew {
		c.Problem("take", "a run takes all files or new ones, not %q", s.Take)
	}
	if s.Most < 0 {
		c.Problem("most", "a run takes at least one file")
	}
	s.layout(c, &f)
	if widths := s.widths(c); widths != nil && !c.Failed() {
		encoding := ""
		if s.Dialect != nil {
			encoding = s.Dialect.Encoding
		}
		wanted := s.wanted()
		l := fixed.OfWidths(wanted, widths, encoding)
		f.Layout, f.Format, f.Whole = &l, form.Fixed, true
	}
	return f
}

// layout finds the layout that a name stands for.
func (s *ReadFiles) layout(c *Context, f *form.Form) {
	if s.Layout != "" && s.Fields != nil {
		c.Problem("fields", "give the name of a layout or fields of its own, not both")
		return
	}
	if s.Layout != "" {
		layouts, ok := c.World.(Layouts)
		if !ok {
			c.Problem("layout", "there are no saved layouts here; give the fields in the step")
			return
		}
		l, err := layouts.Layout(c, s.Layout)
		if err != nil {
			c.Problem("layout", "%s", err)
			return
		}
		f.Layout = l
	}
	if f.Layout == nil {
		return
	}
	if f.Format == "" {
		f.Format = form.Fixed
	}
	if err := f.Layout.Validate(); err != nil {
		c.Problem("fields", "%s", err)
	} else if _, err := f.Layout.Record(s.Record); s.Record != "" && err != nil {
		c.Problem("record", "%s", err)
	}
}

// widths gives the characters of each column of text of fixed width; nil for other
// files.
func (s *ReadFiles) widths(c *Context) []int {
	out, some := make([]int, len(s.Columns)), false
	for i, col := range s.Columns {
		out[i], some = col.Width, some || col.Width != 0
	}
	if !some {
		return nil
	}
	for i, w := range out {
		if w < 1 || w > fixed.MaxLine {
			c.Problem(fmt.Sprintf("columns[%d].width", i), "in text of fixed width every column has a width of at least 1; %q has %d", s.Columns[i].Name, w)
		}
	}
	return out
}

// wanted gives the columns that the settings name; nil for those found.
func (s *ReadFiles) wanted() *schema.Schema {
	if len(s.Columns) == 0 {
		return nil
	}
	out := &schema.Schema{}
	for _, col := range s.Columns {
		out.Columns = append(out.Columns, schema.Column{Name: col.Name, Type: col.Type, Nullable: true})
	}
	return out
}

// arrange puts the files in the order in which they are read.
func (s *ReadFiles) arrange(matched []fileAt) {
	if s.Order == "time" {
		slices.SortStableFunc(matched, func(a, b fileAt) int { return a.Changed.Compare(b.Changed) })
	}
}

// only leaves out the files whose names don't fit the condition.
func (s *ReadFiles) only(c *Context, matched []fileAt, parts *schema.Schema) []fileAt {
	if s.Only == "" {
		return matched
	}
	if parts.Len() == 0 {
		c.Problem("only", "no part of the files' names is a column; name one in the pattern, such as {day}, or read folders called key=value")
		return nil
	}
	where, err := expr.BindCondition(s.Only, c.scope(parts))
	if err != nil {
		c.exprProblem("only", s.Only, err)
		return nil
	}
	b := &batch.Batch{Schema: parts, N: len(matched)}
	for i, col := range parts.Columns {
		to := batch.NewBuilder(col.Type)
		for _, m := range matched {
			if m.parts[i] == nil || batch.AppendText(to, col.Type, *m.parts[i]) != nil {
				to.AppendNull()
			}
		}
		b.Cols = append(b.Cols, to.NewArray())
	}
	values, problems := where.Eval(&expr.Env{Now: c.Now}, b)
	if len(problems) > 0 {
		c.Problem("only", "of %s: %s", matched[problems[0].Row].Name, problems[0].Sentence)
		return nil
	}
	keep := values.(*array.Boolean)
	var out []fileAt
	for i, m := range matched {
		if keep.IsValid(i) && keep.Value(i) {
			out = append(out, m)
		}
	}
	if len(out) == 0 {
		c.Problem("only", "none of the %d files is one where %s", len(matched), s.Only)
	}
	return out
}

// look finds what the settings leave open from the first file that holds something.
func (s *ReadFiles) look(c *Context, files Files, matched []fileAt, f form.Form) (form.Found, string, error) {
	for _, m := range matched {
		found, err := formOf(c, files, m.Name, f)
		if errors.Is(err, format.ErrEmpty) {
			continue
		}
		if err != nil {
			at := "files"
			if f.Records != "" && (found.Form.Format == form.JSON || found.Form.Format == form.XML) {
				at = "records"
			}
			return found, at, fmt.Errorf("%s: %w", m.Name, err)
		}
		if f.Format == "" && s.Dialect != nil && found.Form.Format != form.CSV && found.Form.Format != form.Fixed {
			return found, "dialect", fmt.Errorf("a dialect is for delimited text; %s is %s", m.Name, found.Form.Format)
		}
		return found, "", nil
	}
	return form.Found{}, "files", fmt.Errorf("%s: %w", matched[0].Name, format.ErrEmpty)
}

// mostLooked is how many files are looked at to find all their columns.
const mostLooked = 200

// shape decides which columns come out, by the settings and by what the files have.
func (s *ReadFiles) shape(c *Context, source *fileSource, found form.Found, parts *schema.Schema) *Bound {
	source.wanted = s.wanted()
	if source.wanted == nil || found.Form.Format == form.Parquet {
		columns, ok := s.ofAll(c, source, found)
		if !ok {
			return nil
		}
		if source.wanted == nil {
			source.wanted = columns
		} else {
			s.pickParquet(c, source, columns)
		}
	}
	known := append([]schema.Column{}, parts.Columns...)
	if s.FileAs != "" {
		known = append(known, schema.Column{Name: s.FileAs, Type: schema.Of(schema.Text), Description: "name of the file"})
	}
	if s.RowAs != "" {
		known = append(known, schema.Column{Name: s.RowAs, Type: schema.Of(schema.Int), Description: "number of the row in its file"})
	}
	complete := func(of *schema.Schema) *schema.Schema {
		out := &schema.Schema{Columns: append([]schema.Column{}, of.Columns...)}
		for i := range out.Columns {
			out.Columns[i].From = s.Files + "." + out.Columns[i].Name
		}
		out.Columns = append(out.Columns, known...)
		c.distinctNames(out, func(i int) string {
			if i < len(s.Columns) {
				return fmt.Sprintf("columns[%d].name", i)
			}
			return "file_as"
		})
		return out
	}
	source.schema = complete(source.wanted)
	if s.Differ != DifferShape || len(s.Columns) > 0 {
		return &Bound{Schema: source.schema}
	}
	bound := &Bound{}
	for i := range source.matched {
		if n := source.matched[i].output; n == len(bound.Branches) {
			bound.Branches = append(bound.Branches, Branch{fmt.Sprintf("shape_%d", n+1), complete(source.matched[i].wanted)})
		}
	}
	return bound
}

// pickParquet checks the columns named against those the files have.
func (s *ReadFiles) pickParquet(c *Context, source *fileSource, have *schema.Schema) {
	for i, col := range source.wanted.Columns {
		at := c.column(fmt.Sprintf("columns[%d].name", i), have, col.Name)
		if at >= 0 && have.Columns[at].Type != col.Type {
			c.Problem(fmt.Sprintf("columns[%d].type", i), "%s is %s in the file; retype it in a step behind", col.Name, have.Columns[at].Type)
		}
	}
}

// ofAll gives the columns of the files by the policy for those that differ.
func (s *ReadFiles) ofAll(c *Context, source *fileSource, first form.Found) (*schema.Schema, bool) {
	if s.Differ == "" || s.Differ == DifferRefuse {
		return first.Schema, true
	}
	if len(source.matched) > mostLooked {
		c.Warn("differ", "the columns are those of the first %d of %d files", mostLooked, len(source.matched))
	}
	out := &schema.Schema{Columns: slices.Clone(first.Schema.Columns)}
	var shapes []*schema.Schema
	for i := range source.matched {
		m := &source.matched[i]
		have := first.Schema
		if i < mostLooked {
			f := source.form
			if f.Format == form.CSV && s.Dialect == nil {
				f.Dialect = nil
			}
			found, err := formOf(c, source.files, m.Name, f)
			if errors.Is(err, format.ErrEmpty) {
				m.wanted = first.Schema
				continue
			}
			if err != nil {
				c.Problem("files", "%s: %s", m.Name, err)
				return nil, false
			}
			have = found.Schema
		}
		switch s.Differ {
		case DifferUnion:
			unite(out, have)
		case DifferCommon:
			out.Columns = slices.DeleteFunc(out.Columns, func(col schema.Column) bool { return have.Index(col.Name) < 0 })
			unite(out, columnsIn(have, out))
		case DifferShape:
			at := slices.IndexFunc(shapes, func(x *schema.Schema) bool { return slices.Equal(x.Names(), have.Names()) })
			if at < 0 {
				at = len(shapes)
				shapes = append(shapes, have)
			} else {
				unite(shapes[at], have)
			}
			m.output, m.wanted = at, shapes[at]
		}
	}
	if out.Len() == 0 {
		c.Problem("differ", "the files have no column in common")
		return nil, false
	}
	return out, true
}

// columnsIn gives the columns of one schema that another has too.
func columnsIn(s, other *schema.Schema) *schema.Schema {
	out := &schema.Schema{}
	for _, col := range s.Columns {
		if other.Index(col.Name) >= 0 {
			out.Columns = append(out.Columns, col)
		}
	}
	return out
}

// unite widens columns so that they hold those of one more file; texts hold anything
// that is written as text.
func unite(out, have *schema.Schema) {
	for _, col := range have.Columns {
		at := out.Index(col.Name)
		if at < 0 {
			col.Nullable = true
			out.Columns = append(out.Columns, col)
			continue
		}
		t, ok := schema.Common(out.Columns[at].Type, col.Type)
		if !ok {
			if t = schema.Of(schema.Text); out.Columns[at].Type.Nested() || col.Type.Nested() {
				t = schema.Of(schema.JSON)
			}
		}
		out.Columns[at].Type = t
	}
}
