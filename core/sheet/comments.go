package sheet

import (
	"cmp"
	"fmt"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"github.com/goccy/go-yaml"
)

// Comment is a comment of the sheet's text. It belongs to a setting, so that it
// stays where it is when the sheet is edited by other means than its text, and
// goes with its step.
type Comment struct {
	Step  string `json:"step,omitempty" doc:"The step; nothing for what belongs to the whole sheet."`
	Path  string `json:"path,omitempty" doc:"The setting, such as columns[2].value; nothing for the step itself."`
	Place string `json:"place" enum:"above,beside,below"`
	Text  string `json:"text" doc:"Without the marks; a line break between lines."`
}

const above = "above"

var places = map[yaml.CommentPosition]string{yaml.CommentHeadPosition: above, yaml.CommentLinePosition: "beside", yaml.CommentFootPosition: "below"}

var stepPath = regexp.MustCompile(`^steps\[(\d+)\](?:\.|$)`)

// readComments takes the comments of a text that has been read into s.
func (s *Sheet) readComments(text string) {
	if !strings.Contains(text, "#") {
		return
	}
	found := yaml.CommentMap{}
	var content any
	if err := yaml.UnmarshalWithOptions([]byte(text), &content, yaml.CommentToMap(found)); err != nil {
		return // what can't be read as a whole has its problems told elsewhere
	}
	for path, list := range found {
		path = strings.TrimPrefix(strings.TrimPrefix(path, "$"), ".")
		c := Comment{Path: path}
		if m := stepPath.FindStringSubmatch(path); m != nil {
			if at, _ := strconv.Atoi(m[1]); at < len(s.Steps) {
				c.Step, c.Path = s.Steps[at].ID, path[len(m[0]):]
			}
		}
		for _, comment := range list {
			c.Place, c.Text = places[comment.Position], strings.Join(comment.Texts, "\n")
			if strings.TrimSpace(c.Text) == "" {
				continue
			}
			s.Comments = append(s.Comments, c)
		}
	}
	slices.SortFunc(s.Comments, func(a, b Comment) int {
		return cmp.Or(cmp.Compare(a.Step, b.Step), cmp.Compare(a.Path, b.Path), cmp.Compare(a.Place, b.Place))
	})
}

// comments gives the comments as they are written into a document, each at the
// place that is chosen for it; those whose setting is no longer there go to the
// step or the sheet it stood in.
func (s *Sheet) comments(doc yaml.MapSlice, choose func(place string) string) yaml.CommentMap {
	out := yaml.CommentMap{}
	for _, c := range s.Comments {
		path := c.Path
		if c.Step != "" {
			at := slices.IndexFunc(s.Steps, func(st *Step) bool { return st.ID == c.Step })
			if at < 0 {
				continue
			}
			path = strings.TrimSuffix(fmt.Sprintf("steps[%d].%s", at, c.Path), ".")
		}
		place := choose(c.Place)
		for !has(doc, path) {
			cut := strings.LastIndexAny(path, ".[")
			if cut < 0 {
				path, place = "welkin", above
				break
			}
			path, place = path[:cut], above
		}
		texts := strings.Split(c.Text, "\n")
		for position, name := range places {
			if name != place {
				continue
			}
			path := "$." + path
			if k := slices.IndexFunc(out[path], func(o *yaml.Comment) bool { return o.Position == position }); k >= 0 {
				out[path][k].Texts = append(out[path][k].Texts, texts...)
			} else {
				out[path] = append(out[path], &yaml.Comment{Texts: texts, Position: position})
			}
		}
	}
	return out
}

var pathPart = regexp.MustCompile(`^\.?([^.\[]+)|^\[(\d+)\]`)

// has tells whether a document has something at a path.
func has(doc any, path string) bool {
	for path != "" {
		m := pathPart.FindStringSubmatch(path)
		if m == nil {
			return false
		}
		path = path[len(m[0]):]
		switch at := doc.(type) {
		case yaml.MapSlice:
			k := slices.IndexFunc(at, func(i yaml.MapItem) bool { return i.Key == m[1] })
			if k < 0 {
				return false
			}
			doc = at[k].Value
		case []yaml.MapSlice:
			n, err := strconv.Atoi(m[2])
			if err != nil || n >= len(at) {
				return false
			}
			doc = at[n]
		case []any:
			n, err := strconv.Atoi(m[2])
			if err != nil || n >= len(at) {
				return false
			}
			doc = at[n]
		default:
			return false
		}
	}
	return true
}
