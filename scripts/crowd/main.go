// Command crowd lets 30 people work at a bench with 60 drives, 2,000 jobs and 100,000 entries, two of them with runs
// one after the other, and says how long pages take beside one person alone, and what the server needs:
//
//	scripts/crowd.sh [SECONDS [SEED]]
package main

import (
	"crypto/ed25519"
	"database/sql"
	"encoding/base64"
	"errors"
	"fmt"
	"html"
	"io"
	"log"
	"math/rand/v2"
	"net/http"
	"net/http/cookiejar"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	_ "github.com/go-sql-driver/mysql"

	"jadetrail/app/store"
	"jadetrail/core/trail"
)

// How much there is.
const (
	people  = 30
	drives  = 60
	jobs    = 2000
	entries = 100_000
	runners = 2
)

func main() {
	log.SetFlags(0)
	seconds, seed := 60, uint64(1)
	if len(os.Args) > 1 {
		seconds, _ = strconv.Atoi(os.Args[1])
	}
	if len(os.Args) > 2 {
		seed, _ = strconv.ParseUint(os.Args[2], 10, 64)
	}
	if err := run(time.Duration(seconds)*time.Second, seed); err != nil {
		log.Fatal(err)
	}
}

// bench is the shop under test.
type bench struct {
	data, address string
	server        *exec.Cmd
	db            *sql.DB
	wrong         atomic.Int64
	mu            sync.Mutex
	troubles      []string
	small         time.Duration // how long the bench takes with the demo's drives alone
}

func run(lasts time.Duration, seed uint64) error {
	b := &bench{data: os.Getenv("JADETRAIL_DATA")}
	var err error
	if b.db, err = sql.Open("mysql", os.Getenv("JADETRAIL_OWNER_DSN")); err != nil {
		return err
	}
	if err := b.fill(); err != nil {
		return err
	}
	if err := b.start(); err != nil {
		return err
	}
	defer b.server.Process.Kill()
	for _, n := range []int{1, 10} {
		half, err := b.looks("person0", n)
		if err != nil {
			return err
		}
		if n == 1 {
			fmt.Printf(
				"the bench, half of 20 looks: %d ms with the demo's 7 drives, %d ms with all of these, %.1f times\n",
				b.small.Milliseconds(), half.Milliseconds(), half.Seconds()/b.small.Seconds(),
			)
			b.small = half
			continue
		}
		fmt.Printf("the same by %d people at once: %d ms, %.1f times\n", n, half.Milliseconds(), half.Seconds()/b.small.Seconds())
	}
	rnd := rand.New(rand.NewPCG(seed, 1))

	// One person alone, without a pause.
	alone := &times{}
	one, err := b.person(0, rnd, alone)
	if err != nil {
		return err
	}
	for range 40 {
		one.act()
	}
	// The pages of a morning that nobody has looked at yet are not counted for either.
	*alone = times{}
	for range 200 {
		one.act()
	}

	// All of them, as people work: with pauses.
	together := &times{}
	var all sync.WaitGroup
	var most, runs atomic.Int64
	here := make([]*person, people)
	for i := range here {
		if here[i], err = b.person(i, rand.New(rand.NewPCG(seed, uint64(i)+2)), together); err != nil {
			return err
		}
	}
	end := time.Now().Add(lasts)
	for i, p := range here {
		all.Go(func() {
			for time.Now().Before(end) {
				time.Sleep(time.Duration(500+p.rnd.IntN(5500)) * time.Millisecond)
				p.act()
			}
		})
		if i < runners {
			all.Go(func() {
				for n := 0; time.Now().Before(end); n++ {
					runs.Add(p.carryOut(i, n))
				}
			})
		}
	}
	all.Go(func() {
		for time.Now().Before(end) {
			most.Store(max(most.Load(), b.resident()))
			time.Sleep(200 * time.Millisecond)
		}
	})
	all.Wait()
	var connections int64
	var name string
	if err := b.db.QueryRow("SHOW STATUS LIKE 'Max_used_connections'").Scan(&name, &connections); err != nil {
		return err
	}
	fmt.Printf("%d drives, %d jobs, %d entries; pages and acts mixed as in a working day\n", drives, jobs, entries)
	fmt.Printf("one alone, without a pause: %s\n", alone)
	fmt.Printf("%d at once for %v, with pauses of 0.5 to 6 s, and %d runs carried out meanwhile: %s\n", people, lasts, runs.Load(), together)
	fmt.Printf("at the 95th percentile %.1f times as long; %d answers were wrong\n", together.at(95).Seconds()/alone.at(95).Seconds(), b.wrong.Load())
	fmt.Printf("the server had at most %d MiB, the database at most %d connections\n", most.Load()>>20, connections)
	for kind, list := range together.by {
		slices.Sort(list)
		one := alone.by[kind]
		slices.Sort(one)
		if len(one) > 0 && len(list) > 0 {
			fmt.Printf("  %-10s one alone %4d ms, together %4d ms (of %d at the 95th percentile)\n", kind, one[len(one)*95/100].Milliseconds(), list[len(list)*95/100].Milliseconds(), len(list))
		}
	}
	for _, t := range b.troubles {
		fmt.Println("  ", t)
	}
	if b.wrong.Load() > 0 {
		return errors.New("some answers were wrong")
	}
	return nil
}

// fill puts drives, jobs, people and entries in place.
func (b *bench) fill() error {
	for _, what := range []string{"migrate", "demo"} {
		if out, err := exec.Command("bin/jadetrail", what).CombinedOutput(); err != nil {
			return fmt.Errorf("%s: %w: %s", what, err, out)
		}
	}
	if err := b.start(); err != nil { // it makes the shop's key, and the demo's people
		return err
	}
	var err error
	if b.small, err = b.looks("ines", 1); err != nil {
		return err
	}
	b.server.Process.Signal(os.Interrupt)
	b.server.Wait()
	first := filepath.Join(b.data, "first.img")
	if out, err := exec.Command("e2e/foreign-drive.sh", first).CombinedOutput(); err != nil {
		return fmt.Errorf("a drive: %w: %s", err, out)
	}
	exec1 := func(q string, args ...any) error { _, err := b.db.Exec(q, args...); return err }
	for i := range jobs {
		if err := exec1("INSERT INTO jobs (number, customer, pc, story, want, closed_at) VALUES (?, ?, 'a PC', '', 'room', IF(?, NULL, UTC_TIMESTAMP(3)))", fmt.Sprintf("J-%d", 2000+i), fmt.Sprintf("Customer %d", i), i < drives); err != nil {
			return err
		}
	}
	for i := range drives {
		letter := string(rune('A'+i/26)) + string(rune('A'+i%26))
		image := fmt.Sprintf("crowd-%02d.img", i)
		path := filepath.Join(b.data, "drives", image)
		if out, err := exec.Command("cp", "--sparse=always", first, path).CombinedOutput(); err != nil {
			return fmt.Errorf("%w: %s", err, out)
		}
		id := fmt.Sprintf("5a1c77e0-2000-4d0b-9c3e-7f3b%08x", i)
		if out, err := exec.Command("/usr/sbin/sfdisk", "-q", "--disk-id", path, id).CombinedOutput(); err != nil {
			return fmt.Errorf("%w: %s", err, out)
		}
		card := fmt.Sprintf(`{"model":"2 GB card %d","serial":"CRW%02d-%04X"}`, i, i, 0x1000+i*257)
		if err := os.WriteFile(path+".drive.json", []byte(card), 0o600); err != nil {
			return err
		}
		if err := exec1("INSERT INTO bays (letter, image, job) VALUES (?, ?, ?)", letter, image, fmt.Sprintf("J-%d", 2000+i)); err != nil {
			return err
		}
	}
	if err := exec1("UPDATE bays SET image = NULL, job = NULL WHERE LENGTH(letter) = 1 AND letter <> 'B'"); err != nil {
		return err
	}
	if err := exec1("UPDATE jobs SET closed_at = UTC_TIMESTAMP(3) WHERE number < 'J-2000'"); err != nil {
		return err
	}
	for i := range people {
		if err := exec1("INSERT INTO technicians (login, name, password_hash) SELECT ?, ?, password_hash FROM technicians WHERE login = 'ines'", fmt.Sprintf("person%d", i), fmt.Sprintf("Person %d", i)); err != nil {
			return err
		}
	}
	return b.enter()
}

// enter fills the trail, as the shop itself would.
func (b *bench) enter() error {
	st, err := store.Open(os.Getenv("JADETRAIL_DSN"))
	if err != nil {
		return err
	}
	defer st.Close()
	text, err := os.ReadFile(filepath.Join(b.data, "shop.key"))
	if err != nil {
		return err
	}
	secret, err := base64.StdEncoding.DecodeString(strings.TrimSpace(string(text)))
	if err != nil {
		return err
	}
	st.Key = ed25519.NewKeyFromSeed(secret)
	acts := []trail.Act{trail.ActBackup, trail.ActVerify, trail.ActSearch, trail.ActCompare}
	for at := 0; at < entries; at += 2000 {
		var list []trail.Entry
		for i := at; i < at+2000; i++ {
			list = append(list, trail.Entry{
				ID: fmt.Sprint("crowd-", i), Time: time.Now(), Who: fmt.Sprintf("Person %d", i%people), Act: acts[i%len(acts)],
				Job: fmt.Sprintf("J-%d", 2000+i%jobs), Text: fmt.Sprintf("Something was done for the %dth time", i),
				Drive: trail.Drive{Serial: fmt.Sprintf("OLD-%d", i%500)},
			})
		}
		if err := st.Append(list...); err != nil {
			return err
		}
	}
	return nil
}

var at = regexp.MustCompile(`Jade Trail is at http://(\S+)`)

func (b *bench) start() error {
	c := exec.Command("bin/jadetrail", "serve", "--demo")
	c.Env = append(os.Environ(), "JADETRAIL_ADDR=127.0.0.1:0", "JADETRAIL_OWNER_DSN=", "JADETRAIL_LOG=error")
	c.Stderr = os.Stderr
	out, err := c.StdoutPipe()
	if err != nil {
		return err
	}
	if err := c.Start(); err != nil {
		return err
	}
	b.server = c
	text := make([]byte, 0, 4096)
	for {
		piece := make([]byte, 512)
		n, err := out.Read(piece)
		text = append(text, piece[:n]...)
		if m := at.FindSubmatch(text); m != nil {
			b.address = string(m[1])
			go io.Copy(io.Discard, out)
			return nil
		}
		if err != nil {
			return fmt.Errorf("the server does not start: %w", err)
		}
	}
}

// resident is how much memory the server has.
func (b *bench) resident() int64 {
	text, err := os.ReadFile(fmt.Sprintf("/proc/%d/statm", b.server.Process.Pid))
	if err != nil {
		return 0
	}
	fields := strings.Fields(string(text))
	n, _ := strconv.ParseInt(fields[1], 10, 64)
	return n * int64(os.Getpagesize())
}

// times are how long answers took, by their kind.
type times struct {
	mu  sync.Mutex
	all []time.Duration
	by  map[string][]time.Duration
}

func (t *times) add(kind string, d time.Duration) {
	t.mu.Lock()
	defer t.mu.Unlock()
	if t.by == nil {
		t.by = map[string][]time.Duration{}
	}
	t.all = append(t.all, d)
	t.by[kind] = append(t.by[kind], d)
}

func (t *times) at(percent int) time.Duration {
	t.mu.Lock()
	defer t.mu.Unlock()
	if len(t.all) == 0 {
		return 0
	}
	list := slices.Clone(t.all)
	slices.Sort(list)
	return list[min(len(list)*percent/100, len(list)-1)]
}

// String says them in words.
func (t *times) String() string {
	return fmt.Sprintf("%d answers, half within %d ms, 95 of 100 within %d ms, all within %d ms", len(t.all), t.at(50).Milliseconds(), t.at(95).Milliseconds(), t.at(100).Milliseconds())
}

// person is one of those who work.
type person struct {
	*bench
	rnd    *rand.Rand
	client *http.Client
	took   *times
	mine   int // the number of the own job
}

func (b *bench) person(i int, rnd *rand.Rand, took *times) (*person, error) {
	return b.signIn(fmt.Sprintf("person%d", i), i, rnd, took)
}

func (b *bench) signIn(login string, i int, rnd *rand.Rand, took *times) (*person, error) {
	jar, err := cookiejar.New(nil)
	if err != nil {
		return nil, err
	}
	p := &person{b, rnd, &http.Client{Jar: jar, Timeout: 2 * time.Minute}, took, i}
	body := p.send("", "/sign-in", "login", login, "password", "lantern-ines")
	if !strings.Contains(body, "on the bench") {
		return nil, fmt.Errorf("%s does not get in", login)
	}
	return p, nil
}

// looks has so many people look at the bench at once, 20 times each, and tells how long half of the looks take at most.
// What somebody has just begun to look at is not counted.
func (b *bench) looks(login string, n int) (time.Duration, error) {
	took := &times{}
	var here []*person
	for range n {
		p, err := b.signIn(login, 0, nil, &times{})
		if err != nil {
			return 0, err
		}
		here = append(here, p)
	}
	time.Sleep(3 * time.Second) // what was written to just now is not kept
	here[0].get("", "/")
	var all sync.WaitGroup
	for _, p := range here {
		p.took = took
		all.Go(func() {
			for range 20 {
				p.get("bench", "/")
			}
		})
	}
	all.Wait()
	return took.at(50), nil
}

// act is one page or act of a working day.
func (p *person) act() {
	job := fmt.Sprintf("J-%d", 2000+p.rnd.IntN(drives))
	own := fmt.Sprintf("J-%d", 2000+p.mine)
	switch n := p.rnd.IntN(100); {
	case n < 10:
		p.get("bench", "/")
	case n < 40:
		p.get("drive", "/jobs/"+job)
	case n < 52:
		p.get("about", "/jobs/"+job+"/about")
	case n < 62:
		p.get("jobs", fmt.Sprintf("/jobs?closed=yes&q=customer+%d", p.rnd.IntN(200)))
	case n < 72:
		p.get("trail", fmt.Sprintf("/trail?job=J-%d", 2000+p.rnd.IntN(jobs)))
	case n < 77:
		p.get("search", fmt.Sprintf("/trail?text=the+%dth", p.rnd.IntN(entries)))
	case n < 83:
		p.get("inside", "/jobs/"+job+"/inside?p=3")
	case n < 88:
		p.get("safeguard", "/jobs/"+job+"/safeguard")
	case n < 91:
		p.get("shelf", "/shelf")
	case n < 94:
		p.get("dock", "/dock")
	case n < 97:
		p.send("note", "/jobs/"+own+"/notes", "text", "Something that somebody wrote down")
	default:
		p.send("customers", "/jobs/"+own+"/wait", "for", "customer", "why", "to say more")
		p.send("customers", "/jobs/"+own+"/wait", "for", "")
	}
}

var carry = regexp.MustCompile(`action="(/jobs/[^"]*/carry-out\?[^"]*)"`)

// carryOut shrinks the first volume of the own drive, and grows it the next time, each a whole run, and tells how many
// were carried out.
func (p *person) carryOut(i, n int) int64 {
	page := fmt.Sprintf("/jobs/J-%d", 2000+i)
	what := []string{"shrink", "grow"}[n%2]
	p.send("", page+"/steps", "do", what, "partition", "1", "by", "16 MiB")
	m := carry.FindStringSubmatch(p.get("", page))
	if m == nil {
		time.Sleep(200 * time.Millisecond)
		return 0
	}
	p.send("", html.UnescapeString(m[1]), "serial", fmt.Sprintf("%04X", 0x1000+i*257))
	for range 300 {
		time.Sleep(200 * time.Millisecond)
		if strings.Contains(p.get("", page), "the drive is as planned") {
			return 1
		}
	}
	return 0
}

func (p *person) get(kind, path string) string {
	return p.timed(kind, path, func() (*http.Response, error) { return p.client.Get("http://" + p.address + path) })
}

func (p *person) send(kind, path string, form ...string) string {
	v := url.Values{}
	for i := 0; i < len(form); i += 2 {
		v.Set(form[i], form[i+1])
	}
	return p.timed(kind, path, func() (*http.Response, error) { return p.client.PostForm("http://"+p.address+path, v) })
}

// timed sends something, and notes how long it took where it has a kind.
func (p *person) timed(kind, path string, f func() (*http.Response, error)) string {
	began := time.Now()
	r, err := f()
	if err != nil {
		p.trouble("%s: %v", path, err)
		return ""
	}
	defer r.Body.Close()
	body, err := io.ReadAll(r.Body)
	if err != nil || r.StatusCode >= 400 {
		p.trouble("%s: %d, %v", path, r.StatusCode, err)
	}
	if kind != "" {
		p.took.add(kind, time.Since(began))
	}
	return string(body)
}

func (b *bench) trouble(format string, args ...any) {
	b.wrong.Add(1)
	b.mu.Lock()
	defer b.mu.Unlock()
	if len(b.troubles) < 20 {
		b.troubles = append(b.troubles, fmt.Sprintf(format, args...))
	}
}
