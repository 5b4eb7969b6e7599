// Command workday lets six people work at the application at once, each on a job and a drive of
// their own, and takes the server, the database or the room on the disk from under them at random
// moments. Each time, when everything is back, a checker that shares no code with the application
// compares drives, shelf, bays and trail with what was done, and with every answer that was given:
//
//	scripts/workday.sh [FAULTS [SEED]]
package main

import (
	"fmt"
	"log"
	"math/rand/v2"
	"os"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"
)

// fault is something that is taken away, and given back with what it returns.
type fault struct {
	name string
	take func(h *house) (back func() error, err error)
}

var faults = []fault{
	{"the server is killed", func(h *house) (func() error, error) { return h.startServer, h.killServer() }},
	{"the database is killed", func(h *house) (func() error, error) { return h.startDatabase, h.killDatabase() }},
	{"the data folder is full", full("data")},
	{"the folder of runs is full", full("runs")},
	{"the folder of records is full", full("records")},
	{"the shelf is full", full("shelf")},
	{"the folder for passing things is full", full("tmp")},
	{"the database is killed, then the server", func(h *house) (func() error, error) { return h.thenTheServer(h.killDatabase, h.startDatabase) }},
	{"the data folder is full, and the server is killed", func(h *house) (func() error, error) {
		return h.thenTheServer(func() error { return h.fill("data") }, func() error { return h.empty("data") })
	}},
}

// full is a disk without room.
func full(disk string) func(h *house) (func() error, error) {
	return func(h *house) (func() error, error) { return func() error { return h.empty(disk) }, h.fill(disk) }
}

// thenTheServer takes something away, and a little later kills the server; back comes first what went
// first.
func (h *house) thenTheServer(take, give func() error) (func() error, error) {
	if err := take(); err != nil {
		return nil, err
	}
	time.Sleep(300 * time.Millisecond)
	return func() error {
		if err := give(); err != nil {
			return err
		}
		return h.startServer()
	}, h.killServer()
}

func main() {
	log.SetFlags(0)
	rounds, seed := 200, uint64(time.Now().UnixNano())
	if len(os.Args) > 1 {
		rounds, _ = strconv.Atoi(os.Args[1])
	}
	if len(os.Args) > 2 {
		seed, _ = strconv.ParseUint(os.Args[2], 10, 64)
	}
	log.Printf("seed %d", seed)
	rnd := rand.New(rand.NewPCG(seed, 1))
	h, err := open()
	if err != nil {
		log.Fatal(err)
	}
	defer h.close()
	people, err := h.arrive(rnd)
	if err != nil {
		h.close()
		log.Fatal(err)
	}
	wrong, times := 0, map[string]int{}
	for round := 1; round <= rounds; round++ {
		f := faults[rnd.IntN(len(faults))]
		times[f.name]++
		found := h.round(rnd, people, f)
		if len(found) > 0 {
			wrong++
			log.Printf("WRONG in round %d, %s:\n  %s", round, f.name, strings.Join(found, "\n  "))
		} else if round%10 == 0 {
			log.Printf("ok    %d rounds; %s", round, sumUp(people))
		}
		if wrong > 5 {
			break
		}
	}
	if wrong == 0 {
		for _, text := range h.atTheEnd(people) {
			wrong++
			log.Printf("WRONG at the end: %s", text)
		}
	}
	log.Printf("%d rounds with %d wrong: %v; %s", rounds, wrong, times, sumUp(people))
	if wrong > 0 {
		h.close()
		os.Exit(1)
	}
}

// round lets everybody work, takes something away at a random moment and gives it back, and
// returns what is wrong afterwards.
func (h *house) round(rnd *rand.Rand, people []*person, f fault) []string {
	stop := make(chan struct{})
	var all sync.WaitGroup
	for _, p := range people {
		all.Go(func() { p.work(stop) })
	}
	time.Sleep(time.Duration(rnd.IntN(2500)) * time.Millisecond)
	back, err := f.take(h)
	if err != nil {
		close(stop)
		return []string{"the fault could not be made: " + err.Error()}
	}
	time.Sleep(time.Duration(rnd.IntN(2500)) * time.Millisecond)
	if err := back(); err != nil {
		close(stop)
		return []string{"what was taken away does not come back: " + err.Error()}
	}
	time.Sleep(time.Duration(rnd.IntN(1000)) * time.Millisecond)
	close(stop)
	began := time.Now()
	all.Wait()
	waited := time.Since(began)
	if err := h.calm(); err != nil {
		return []string{err.Error(), people[0].told("/")}
	}
	found := make([]string, len(people))
	for i, p := range people {
		all.Go(func() {
			if err := p.settle(); err != nil {
				found[i] = p.name + ": " + err.Error()
			}
		})
	}
	all.Wait()
	found = slices.DeleteFunc(found, func(s string) bool { return s == "" })
	settled := time.Since(began)
	if err := h.calm(); err != nil {
		return append(found, err.Error())
	}
	found = append(found, h.check(people)...)
	if all := time.Since(began); all > slow {
		log.Printf("      %s: ended after %.1f s, settled after %.1f s, checked after %.1f s", f.name, waited.Seconds(), settled.Seconds(), all.Seconds())
	}
	return found
}

// slow is what it is told of when a round takes longer to come to rest.
const slow = 30 * time.Second

func sumUp(people []*person) string {
	n := map[string]int{}
	for _, p := range people {
		for what, c := range p.did {
			n[what] += c
		}
	}
	return fmt.Sprint(n)
}
