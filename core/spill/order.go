package spill

import (
	"cmp"
	"encoding/binary"
	"math/bits"
	"runtime"
	"slices"
	"sync"
	"sync/atomic"

	"welkin/core/batch"
)

// place is a row in memory; head is eight bytes of its key.
type place struct {
	head       uint64
	batch, row int32
}

func comparePlaces(a, b place) int {
	if a.head != b.head {
		return cmp.Compare(a.head, b.head)
	}
	if a.batch != b.batch {
		return int(a.batch - b.batch)
	}
	return int(a.row - b.row)
}

// order sorts places by their keys from byte depth on, up to which the keys are
// equal; equal keys are ordered by where they stand.
//
// Eight bytes of each key are taken beside its place and sorted, which touches
// no other memory; then each group of places with the same eight bytes is sorted
// by the following eight (a multikey quicksort that caches, after Ng and
// Kakehi). No key is the beginning of another, so padding short ones with zeros
// decides nothing.
func order(places []place, keys []batch.SortKeys, depth int) {
	var tasks []task
	cores := runtime.GOMAXPROCS(0)
	large := []task{{places, depth}}
	for len(large) > 0 {
		t := large[len(large)-1]
		large = large[:len(large)-1]
		if len(t.places) < 1<<15 || cores == 1 {
			tasks = append(tasks, t)
			continue
		}
		if fillParallel(t, keys, cores) {
			sortParallel(t.places)
		}
		large = append(large, groups(t, keys, nil)...)
	}
	slices.SortFunc(tasks, func(a, b task) int { return len(b.places) - len(a.places) })
	var next atomic.Int32
	var wg sync.WaitGroup
	for range min(cores, len(tasks)) {
		wg.Go(func() {
			for i := int(next.Add(1)) - 1; i < len(tasks); i = int(next.Add(1)) - 1 {
				orderAlone(tasks[i], keys)
			}
		})
	}
	wg.Wait()
}

// task is places that are equal up to byte depth.
type task struct {
	places []place
	depth  int
}

// orderAlone is order on one core.
func orderAlone(t task, keys []batch.SortKeys) {
	left := []task{t}
	for len(left) > 0 {
		t := left[len(left)-1]
		left = left[:len(left)-1]
		if fill(t.places, keys, t.depth) {
			sortPlaces(t.places)
		}
		left = groups(t, keys, left)
	}
}

// groups appends the groups of sorted places that have the same head and keys
// that go on behind it.
func groups(t task, keys []batch.SortKeys, to []task) []task {
	for from := 0; from < len(t.places); {
		end := from + 1
		for end < len(t.places) && t.places[end].head == t.places[from].head {
			end++
		}
		// where one of equal keys ends, all do
		if first := t.places[from]; end > from+1 && len(keys[first.batch].At(int(first.row))) > t.depth+8 {
			to = append(to, task{t.places[from:end], t.depth + 8})
		}
		from = end
	}
	return to
}

// fill takes the eight bytes from depth on of each key; it tells whether they
// differ.
func fill(places []place, keys []batch.SortKeys, depth int) bool {
	differ := uint64(0)
	for i := range places {
		p := &places[i]
		if key := keys[p.batch].At(int(p.row))[depth:]; len(key) >= 8 {
			p.head = binary.BigEndian.Uint64(key)
		} else {
			p.head = 0
			for k, c := range key {
				p.head |= uint64(c) << (56 - 8*k)
			}
		}
		differ |= p.head ^ places[0].head
	}
	return differ != 0
}

// fillParallel is fill by several cores.
func fillParallel(t task, keys []batch.SortKeys, cores int) bool {
	var wg sync.WaitGroup
	var differ atomic.Bool
	size := (len(t.places) + cores - 1) / cores
	for from := 0; from < len(t.places); from += size {
		part := t.places[from:min(from+size, len(t.places))]
		wg.Go(func() {
			if fill(part, keys, t.depth) {
				differ.Store(true)
			}
		})
	}
	wg.Wait()
	for from := size; from < len(t.places) && !differ.Load(); from += size {
		differ.Store(t.places[from].head != t.places[0].head)
	}
	return differ.Load()
}

// sortParallel sorts two halves at once and merges them.
func sortParallel(places []place) {
	half := len(places) / 2
	left, right := slices.Clone(places[:half]), places[half:]
	var wg sync.WaitGroup
	wg.Go(func() { sortPlaces(left) })
	sortPlaces(right)
	wg.Wait()
	out := places[:0]
	for len(left) > 0 && len(right) > 0 { // out stays behind right: it lacks what is left of left
		if comparePlaces(left[0], right[0]) < 0 {
			out, left = append(out, left[0]), left[1:]
		} else {
			out, right = append(out, right[0]), right[1:]
		}
	}
	copy(places[len(out):], left) // nothing when right is what is left: it stands in its place
}

// fewPlaces are sorted by comparing.
const fewPlaces = 256

// sortPlaces sorts places, of which those with the same head stand in order, by
// their heads: by one byte after the other, from the first in which they differ.
func sortPlaces(places []place) {
	if len(places) < fewPlaces {
		slices.SortFunc(places, comparePlaces)
		return
	}
	differ := uint64(0)
	for i := range places {
		differ |= places[i].head ^ places[0].head
	}
	if differ != 0 {
		byByte(places, make([]place, len(places)), differ)
	}
}

// byByte sorts by the first byte that may differ and goes on with those after it;
// room is as long as places.
func byByte(places, room []place, differ uint64) {
	if len(places) < fewPlaces {
		slices.SortFunc(places, comparePlaces)
		return
	}
	shift := (63 - bits.LeadingZeros64(differ)) &^ 7
	var ends [256]int
	for i := range places {
		ends[byte(places[i].head>>shift)]++
	}
	at := 0
	for b, n := range ends {
		ends[b] = at
		at += n
	}
	for i := range places {
		b := byte(places[i].head >> shift)
		room[ends[b]] = places[i]
		ends[b]++
	}
	copy(places, room)
	differ &= 1<<shift - 1
	if differ == 0 {
		return
	}
	from := 0
	for _, end := range ends {
		if end > from+1 {
			byByte(places[from:end], room[from:end], differ)
		}
		from = end
	}
}
