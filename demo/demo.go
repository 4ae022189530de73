// Package demo makes up the scenario: the Larkfell Hut Association with its 48
// huts. All people, places and figures are invented. demo.go has the generator
// and its huts, booking.go the booking database, wardenlogs.go the day logs,
// incoming.go the other delimited files of the folder incoming, formats.go those of other
// formats, stores.go the stores' database, council.go the council's API, settle.go what the demo puts into Welkin itself; sheets/ has its pipelines.
//
// The same seed, scale and day give the same data.
package demo

import (
	"fmt"
	"math/rand/v2"
	"time"
)

// Options say how much is made up, and for which day.
type Options struct {
	Scale float64 // 1 is about 200,000 stays
	Today time.Time
}

// Generator makes up data.
type Generator struct {
	Options
	huts []hut
}

type hut struct {
	id       int
	code     string
	name     string
	district string
	class    string
	beds     int
	warden   bool
	altitude int
}

var (
	firstParts  = []string{"Raven", "Lark", "Grey", "Stone", "Wind", "Thorn", "Silver", "Mist", "Harrow", "Fox", "Birch", "Cold"}
	secondParts = []string{"seat", "fell", "gap", "water"}
	districts   = []string{"Upper Larkfell", "Dunvarrow", "Saltmere", "Ormskell", "The Costes", "Quensted"}
	classes     = []string{"A", "B", "C"}
)

// New makes a generator.
func New(o Options) *Generator {
	if o.Scale <= 0 {
		o.Scale = 1
	}
	g := &Generator{Options: o}
	g.Today = time.Date(o.Today.Year(), o.Today.Month(), o.Today.Day(), 0, 0, 0, 0, time.UTC)
	r := g.random("huts")
	for i := range 48 {
		g.huts = append(g.huts, hut{id: i + 1, code: fmt.Sprintf("H%02d", i+1), name: firstParts[i/4] + secondParts[i%4] + " hut",
			district: districts[i%len(districts)], class: classes[i%7%3], beds: 8 + r.IntN(60), warden: i%2 == 0, altitude: 600 + r.IntN(1400)})
	}
	return g
}

// random gives a source of chance for one part of the data, so that a change to
// one leaves the others as they are.
func (g *Generator) random(part string) *rand.Rand {
	seed := [32]byte{}
	copy(seed[:], "larkfell "+part)
	return rand.New(rand.NewChaCha8(seed))
}
