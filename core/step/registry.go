package step

import (
	"math"
	"slices"

	"github.com/invopop/jsonschema"

	"welkin/core/sheet"
)

// All lists the kinds of step in the order in which they are offered.
func All() []Kind {
	return []Kind{
		readFiles, readTable, readAPI, generateRows, pastedRows,
		chooseColumns, deriveColumns, tidyNames, splitColumn, calendarParts, maskColumns, findPersonal, flattenRecords, spreadLists, parseText,
		keepRows, routeRows, dropDuplicates, sortRows, sampleRows, limitRows, stackRows,
		joinKind, lookUp, matchNames, findValid, compareRows,
		groupKind, pivotRows, unpivotColumns, windowRows,
		checkRules, sqlKind, scriptKind, programKind,
		writeFile, writeTable,
	}
}

// Find gives the kind of a name.
func Find(name string) (Kind, bool) {
	all := All()
	i := slices.IndexFunc(all, func(k Kind) bool { return k.Name == name })
	if i < 0 {
		return Kind{}, false
	}
	return all[i], true
}

// Kinds hands the kinds to package sheet.
type Kinds struct{}

var _ sheet.Kinds = Kinds{}

// New gives empty settings of a kind, or nil.
func (Kinds) New(kind string) any {
	if k, ok := Find(kind); ok {
		return k.New()
	}
	return nil
}

// Names lists the kinds' names.
func (Kinds) Names() []string {
	var names []string
	for _, k := range All() {
		names = append(names, k.Name)
	}
	return names
}

// Ports tells how many inputs a kind takes at least and at most.
func (Kinds) Ports(kind string) (least, most int) {
	k, _ := Find(kind)
	if k.Many {
		return len(k.Ports) - 1, math.MaxInt
	}
	return len(k.Ports), len(k.Ports)
}

// JSONSchema gives the published schema of a kind's settings, from which the
// front end draws a form and other programs check.
func (k Kind) JSONSchema() *jsonschema.Schema {
	r := jsonschema.Reflector{Anonymous: true, DoNotReference: true, ExpandedStruct: true}
	s := r.Reflect(k.New())
	s.Title, s.Description = k.Name, k.Help
	if c, ok := k.New().(chooser); ok {
		for name, words := range c.choices() {
			list, _ := s.Properties.Get(name)
			for _, word := range words {
				list.Items.Enum = append(list.Items.Enum, word)
			}
		}
	}
	return s
}

// chooser is implemented by settings with lists whose entries are chosen among
// words: it gives these by the list's name.
type chooser interface{ choices() map[string][]string }
