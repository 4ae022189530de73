package expr

import (
	"errors"
	"fmt"
	"strings"
	"unicode"

	pg "github.com/pganalyze/pg_query_go/v6"
	"github.com/pganalyze/pg_query_go/v6/parser"
)

const prefix = "SELECT "

// parsed is an expression's tree with what is needed to speak of its places.
type parsed struct {
	text   string
	node   *pg.Node
	params []string // names of :parameters by number from 1
	shifts []shift  // where numbered parameters moved the text
}

type shift struct{ at, by int }

// parse reads one scalar expression.
func parse(text string) (*parsed, error) {
	if strings.TrimSpace(text) == "" {
		return nil, &Error{0, "the expression is empty; write one, such as nights * 2"}
	}
	p := &parsed{text: text}
	numbered := p.numberParameters()
	tree, err := pg.Parse(prefix + numbered)
	if err != nil {
		var syntax *parser.Error
		if errors.As(err, &syntax) {
			at := p.place(syntax.Cursorpos - 1)
			return nil, &Error{at, sentenceOf(syntax.Message, text, at)}
		}
		return nil, &Error{0, err.Error()}
	}
	if len(tree.Stmts) != 1 {
		return nil, &Error{0, "one expression is expected here, not several statements"}
	}
	sel := tree.Stmts[0].Stmt.GetSelectStmt()
	if sel == nil || len(sel.TargetList) != 1 || sel.FromClause != nil || sel.WhereClause != nil || sel.GroupClause != nil ||
		sel.SortClause != nil || sel.LimitCount != nil || sel.DistinctClause != nil || sel.Op > pg.SetOperation_SETOP_NONE {
		return nil, &Error{0, "one expression is expected here, such as nights * 2; a whole query has no place"}
	}
	target := sel.TargetList[0].GetResTarget()
	if target.Name != "" {
		return nil, &Error{p.place(int(target.Location)), fmt.Sprintf("the name %q can't stand in the expression; give it as the column's name", target.Name)}
	}
	p.node = target.Val
	return p, nil
}

func sentenceOf(message, text string, at int) string {
	if strings.Contains(message, "at end of input") {
		return "the expression ends too early; something is missing at its end"
	}
	return fmt.Sprintf("%s (at character %d)", message, len([]rune(text[:min(at, len(text))]))+1)
}

// place turns an offset in the parsed statement into one in the text.
func (p *parsed) place(at int) int {
	at -= len(prefix)
	for i := len(p.shifts) - 1; i >= 0; i-- {
		if at > p.shifts[i].at {
			at -= p.shifts[i].by
			break
		}
	}
	return max(0, min(at, len(p.text)))
}

// numberParameters writes :name as $1, $2, … outside of quotes and comments.
func (p *parsed) numberParameters() string {
	var out strings.Builder
	text, numbers, moved := p.text, map[string]int{}, 0
	for i := 0; i < len(text); {
		c := text[i]
		switch {
		case c == '\'' || c == '"':
			end := strings.IndexByte(text[i+1:], c)
			if end < 0 {
				end = len(text) - i - 2
			}
			out.WriteString(text[i : i+end+2])
			i += end + 2
		case strings.HasPrefix(text[i:], "::"):
			out.WriteString("::")
			i += 2
		case c == ':' && i+1 < len(text) && (unicode.IsLetter(rune(text[i+1])) || text[i+1] == '_'):
			end := i + 1
			for end < len(text) && (text[end] == '_' || text[end] >= '0' && text[end] <= '9' || unicode.IsLetter(rune(text[end]))) {
				end++
			}
			name := text[i+1 : end]
			if numbers[name] == 0 {
				p.params = append(p.params, name)
				numbers[name] = len(p.params)
			}
			mark := fmt.Sprintf("$%d", numbers[name])
			out.WriteString(mark)
			moved += len(mark) - (end - i)
			p.shifts = append(p.shifts, shift{end + moved, moved})
			i = end
		default:
			out.WriteByte(c)
			i++
		}
	}
	return out.String()
}
