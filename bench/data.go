package main

import (
	"bufio"
	"fmt"
	"math/rand/v2"
	"os"
	"time"
)

var syllables = []string{"salt", "mere", "orm", "skell", "lark", "fell", "raven", "seat", "wester", "dale", "high", "by", "old", "ham", "crag", "beck", "thorn", "ness", "gill", "scar", "moor", "tarn", "holm", "wick"}

// name makes an invented town's name.
func name(r *rand.Rand) string {
	word := func() string { return syllables[r.IntN(len(syllables))] + syllables[r.IntN(len(syllables))] }
	if r.IntN(3) == 0 {
		return word() + " " + word()
	}
	return word()
}

// write makes a file once; an earlier run's is used again.
func write(path string, lines func(w *bufio.Writer)) error {
	if _, err := os.Stat(path); err == nil {
		return nil
	}
	f, err := os.Create(path + ".part")
	if err != nil {
		return err
	}
	w := bufio.NewWriterSize(f, 1<<20)
	lines(w)
	if err := w.Flush(); err != nil {
		return err
	}
	if err := f.Close(); err != nil {
		return err
	}
	return os.Rename(path+".part", path)
}

// stays writes the ten-column file of all types.
func stays(path string, rows int) error {
	return write(path, func(w *bufio.Writer) {
		r := rand.New(rand.NewPCG(1, 1))
		fmt.Fprintln(w, "id,hut,guest,arrived,seen,nights,price,rating,paid,remark")
		day := time.Date(2020, 1, 1, 0, 0, 0, 0, time.UTC)
		remarks := []string{"", "late, by the north path", "with a dog", "paid in cash", `said ""never again""`, "two beds"}
		for i := range rows {
			arrived := day.AddDate(0, 0, r.IntN(2400))
			fmt.Fprintf(w, "%d,hut_%02d,%d,%s,%s,%d,%d.%02d,%.3f,%t,\"%s\"\n", i+1, r.IntN(48), r.IntN(max(rows/10, 1))+1, arrived.Format("2006-01-02"),
				arrived.Add(time.Duration(r.IntN(86400))*time.Second).Format("2006-01-02 15:04:05"), r.IntN(14), r.IntN(400), r.IntN(100), r.Float64()*5, r.IntN(2) == 0, remarks[r.IntN(len(remarks))])
		}
	})
}

// guests writes a tenth as many guests, for the join.
func guests(path string, rows int) error {
	return write(path, func(w *bufio.Writer) {
		r := rand.New(rand.NewPCG(2, 2))
		fmt.Fprintln(w, "guest,town,born")
		for i := range max(rows/10, 1) {
			fmt.Fprintf(w, "%d,%s %d,%d\n", i+1, name(r), r.IntN(40), 1930+r.IntN(80))
		}
	})
}

// wide writes 100,000 rows of 65 columns: one of keys and 64 of figures.
func wide(path string, rows int) error {
	return write(path, func(w *bufio.Writer) {
		r := rand.New(rand.NewPCG(3, 3))
		fmt.Fprint(w, "hut")
		for c := range 64 {
			fmt.Fprintf(w, ",m%02d", c)
		}
		fmt.Fprintln(w)
		for i := range rows {
			fmt.Fprintf(w, "%d", i)
			for range 64 {
				fmt.Fprintf(w, ",%d", r.IntN(500))
			}
			fmt.Fprintln(w)
		}
	})
}

// names writes towns, and the towns that people typed: a letter wrong in most.
func names(reference, typed string, towns, rows int) error {
	r := rand.New(rand.NewPCG(4, 4))
	list := make([]string, 0, towns)
	seen := map[string]bool{}
	for len(list) < towns {
		if n := name(r); !seen[n] {
			seen[n] = true
			list = append(list, n)
		}
	}
	if err := write(reference, func(w *bufio.Writer) {
		fmt.Fprintln(w, "name")
		for _, n := range list {
			fmt.Fprintln(w, n)
		}
	}); err != nil {
		return err
	}
	return write(typed, func(w *bufio.Writer) {
		fmt.Fprintln(w, "town")
		for range rows {
			n := []byte(list[r.IntN(len(list))])
			if r.IntN(5) > 0 {
				n[r.IntN(len(n))] = byte('a' + r.IntN(26))
			}
			fmt.Fprintln(w, string(n))
		}
	})
}
