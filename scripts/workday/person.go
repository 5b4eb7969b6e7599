package main

import (
	"encoding/json"
	"errors"
	"fmt"
	"html"
	"io"
	"math/rand/v2"
	"net/http"
	"net/http/cookiejar"
	"net/url"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"time"
)

// person works on a job, with a drive. What was done for certain, and what may have been done, is
// counted from the answers alone.
type person struct {
	name, login, password, job, bay, serial string

	house  *house
	rnd    *rand.Rand
	client *http.Client
	parts  []part
	want   []part // what the drive is like when the run that was sent is done, nil when none is
	undo   bool   // it was asked to be taken back
	least  map[string]int
	most   map[string]int
	did    map[string]int
	wrong  []string // answers that nobody should get
}

// part is a partition of the drive, with what it holds.
type part struct {
	at, size int // MiB
	sum      string
	away     bool // it was deleted
}

var errNoAnswer = errors.New("no answer")

// answer is a page that came.
type answer struct {
	status  int
	body    string
	notDone bool // it says that nothing was done of what was sent
}

var flash = regexp.MustCompile(`(?s)<div class="flash (\w+)"[^>]*>(.*?)</div>`)

// said is the message on top of the page.
func (a answer) said() string {
	if m := flash.FindStringSubmatch(a.body); m != nil {
		return html.UnescapeString(m[2])
	}
	return ""
}

var inside = []string{"Internal Server Error", "goroutine ", "dial tcp", "invalid connection", "driver: bad connection", "Error 1", "something went wrong inside"}

func (p *person) ask(method, path string, form url.Values) (answer, error) {
	var body io.Reader
	if form != nil {
		body = strings.NewReader(form.Encode())
	}
	q, err := http.NewRequest(method, "http://"+p.house.address+path, body)
	if err != nil {
		return answer{}, err
	}
	if form != nil {
		q.Header.Set("Content-Type", "application/x-www-form-urlencoded")
	}
	r, err := p.client.Do(q)
	if err != nil {
		return answer{}, errNoAnswer
	}
	defer r.Body.Close()
	b, err := io.ReadAll(r.Body)
	if err != nil {
		return answer{}, errNoAnswer
	}
	a := answer{status: r.StatusCode, body: string(b)}
	a.notDone = strings.Contains(a.body, "What you have just sent was not done.")
	for _, bad := range inside {
		if at := strings.Index(a.body, bad); at >= 0 {
			p.complain("%s %s is answered with %d, %q", method, path, a.status, a.body[max(at-150, 0):min(at+80, len(a.body))])
		}
	}
	if strings.Count(a.body, "<html") > 1 {
		p.complain("%s %s is answered with %d, and two pages", method, path, a.status)
	}
	if path != "/healthz" && a.status >= 500 && !strings.Contains(a.body, `<main id="main"`) {
		p.complain("%s %s is answered with %d and no page", method, path, a.status)
	}
	return a, nil
}

// complain notes an answer that nobody should get, once.
func (p *person) complain(format string, args ...any) {
	if text := fmt.Sprintf(format, args...); !slices.Contains(p.wrong, text) {
		p.wrong = append(p.wrong, text)
	}
}

func (p *person) get(path string) (answer, error) { return p.ask("GET", path, nil) }

func (p *person) post(path string, form ...string) (answer, error) {
	v := url.Values{}
	for i := 0; i < len(form); i += 2 {
		v.Set(form[i], form[i+1])
	}
	return p.ask("POST", path, v)
}

func (p *person) page() string { return "/jobs/" + p.job + "?bay=" + p.bay }

var notice = regexp.MustCompile(`(?s)<p class="notice[^>]*>(.*?)</p>`)

// told is what a page warns of.
func (p *person) told(path string) string {
	a, err := p.get(path)
	if err != nil {
		return err.Error()
	}
	out := fmt.Sprintf("%s: %d", path, a.status)
	for _, m := range notice.FindAllStringSubmatch(a.body, -1) {
		out += "; " + html.UnescapeString(tags.ReplaceAllString(m[1], ""))
	}
	return out
}

// may counts something that may have been done, and did what was.
func (p *person) may(what string) { p.most[what]++ }
func (p *person) has(what string) { p.least[what]++ }

// work does one thing after the other.
func (p *person) work(stop chan struct{}) {
	acts := []func(){p.slide, p.slide, p.delete, p.bringBack, p.backUp, p.backUp, p.dropBackup, p.lookAround, p.moveBay}
	for {
		select {
		case <-stop:
			return
		default:
		}
		switch in, err := p.inBay(); {
		case err != nil:
			time.Sleep(100 * time.Millisecond)
		case p.want != nil:
			p.goOn()
			time.Sleep(50 * time.Millisecond)
		case !in:
			p.attach()
		default:
			acts[p.rnd.IntN(len(acts))]()
		}
	}
}

var (
	busy      = regexp.MustCompile(`id="work"[^>]*data-busy="true"`)
	workLine  = regexp.MustCompile(`(?s)id="work".*?<span data-line\s*>(.*?)</span>\s*<progress`)
	carryForm = regexp.MustCompile(`action="(/jobs/[^"]*/carry-out\?[^"]*)"`)
	stepForm  = regexp.MustCompile(`action="(/jobs/[^"]*/steps/take-out\?[^"]*)"`)
	openRun   = regexp.MustCompile(`action="(/jobs/[^"]*/resume\?[^"]*)">\s*<input type="hidden" name="run" value="([^"]*)"`)
	tags      = regexp.MustCompile(`<[^>]*>`)
)

// ended waits until nothing goes on with the drive, and returns the page and what came of it.
func (p *person) ended() (answer, string, error) {
	for range 300 {
		a, err := p.get(p.page())
		if err != nil || a.status != 200 {
			return a, "", errNoAnswer
		}
		if !busy.MatchString(a.body) {
			text := ""
			if m := workLine.FindStringSubmatch(a.body); m != nil {
				text = html.UnescapeString(tags.ReplaceAllString(m[1], ""))
			}
			return a, text, nil
		}
		time.Sleep(200 * time.Millisecond)
	}
	return answer{}, "", errNoAnswer
}

// inBay tells whether the drive is in its bay, as the bench says.
func (p *person) inBay() (bool, error) {
	a, err := p.get("/dock")
	if err != nil || a.status != 200 {
		return false, errNoAnswer
	}
	return !strings.Contains(a.body, p.file()), nil
}

func (p *person) file() string { return strings.ToLower(p.serial) + ".img" }

// number is the place of a partition in the drive's table, from the drive itself.
func (p *person) number(x part) (string, error) {
	found, err := entries(p.house.imageOf(p))
	if err != nil {
		return "", err
	}
	for n, e := range found {
		if e[0] == x.at {
			return fmt.Sprint(n), nil
		}
	}
	return "", fmt.Errorf("no partition begins at %d MiB", x.at)
}

// pick is a partition that is there, or that was deleted; its index, or -1.
func (p *person) pick(away bool) int {
	var of []int
	for i, x := range p.parts {
		if x.away == away {
			of = append(of, i)
		}
	}
	if len(of) == 0 {
		return -1
	}
	return of[p.rnd.IntN(len(of))]
}

func (p *person) slide() {
	i := p.pick(false)
	if i < 0 {
		return
	}
	x := p.parts[i]
	low, high := 1, driveMiB-1
	for j, y := range p.parts {
		if j != i && y.at < x.at {
			low = max(low, y.at+y.size)
		} else if j != i {
			high = min(high, y.at)
		}
	}
	if high-low <= x.size {
		return
	}
	to := low + p.rnd.IntN(high-low-x.size+1)
	want := slices.Clone(p.parts)
	want[i].at = to
	if to != x.at {
		p.carry(x, want, "slide", "by", fmt.Sprintf("%d MiB", to-x.at))
	}
}

func (p *person) delete() {
	i := p.pick(false)
	if i < 0 || p.pick(true) >= 0 {
		return
	}
	want := slices.Clone(p.parts)
	want[i].away = true
	p.carry(p.parts[i], want, "delete", "release", "not wanted", "waiver", "it is kept elsewhere")
}

// carry plans a step and carries it out.
func (p *person) carry(x part, want []part, do string, form ...string) {
	number, err := p.number(x)
	if err != nil {
		return
	}
	a, err := p.get(p.page())
	if err != nil || a.status != 200 || stepForm.MatchString(a.body) {
		return
	}
	if a, err = p.post("/jobs/"+p.job+"/steps?bay="+p.bay, append([]string{"do", do, "partition", number}, form...)...); err == nil && a.status == 200 {
		p.carryOut(want)
	}
}

// carryOut carries out the plan that the page shows.
func (p *person) carryOut(want []part) {
	a, err := p.get(p.page())
	if err != nil || a.status != 200 {
		return
	}
	m := carryForm.FindStringSubmatch(a.body)
	if m == nil {
		p.did["not ready"]++
		p.dropPlan(a)
		return
	}
	tail := p.serial[len(p.serial)-4:]
	a, err = p.post(html.UnescapeString(m[1]), "serial", tail)
	if err == nil && a.notDone {
		return
	}
	p.want = want
	if err != nil || a.status != 200 {
		return
	}
	if p.rnd.IntN(8) == 0 {
		p.post("/jobs/"+p.job+"/stop?bay="+p.bay, "x", "")
	}
	if _, said, err := p.ended(); err == nil && strings.Contains(said, "the drive is as planned") {
		p.arrived(want)
	}
}

// arrived notes that the run was done.
func (p *person) arrived(parts []part) {
	p.parts, p.want, p.undo = parts, nil, false
	p.may("carried-out")
	p.has("carried-out")
	p.did["carried out"]++
}

// goOn finishes or takes back a run that is open.
func (p *person) goOn() {
	a, _, err := p.ended()
	if err != nil {
		return
	}
	m := openRun.FindStringSubmatch(a.body)
	if m == nil {
		return
	}
	undo := p.undo || p.rnd.IntN(2) == 0
	form := []string{"run", m[2]}
	if undo {
		form = append(form, "undo", "yes")
	}
	a, err = p.post(html.UnescapeString(m[1]), form...)
	if err == nil && a.notDone {
		return
	}
	p.undo = undo
	if err != nil || a.status != 200 {
		return
	}
	_, said, err := p.ended()
	switch {
	case err != nil:
	case strings.Contains(said, "The run was finished: the drive is as planned"), !undo && strings.Contains(said, "The run has ended, and the drive is as it should be"):
		p.arrived(p.want)
	case strings.Contains(said, "The run was taken back"), undo && strings.Contains(said, "The run has ended, and the drive is as it should be"):
		p.want, p.undo = nil, false
		p.did["taken back"]++
	}
}

// settle finds out, and makes sure, what became of a run.
func (p *person) settle() error {
	last := ""
	for range 30 {
		a, said, err := p.ended()
		last = said
		in, err2 := p.inBay()
		if err2 == nil && !in {
			return nil
		}
		if err != nil {
			time.Sleep(200 * time.Millisecond)
			continue
		}
		if openRun.MatchString(a.body) {
			if p.want == nil {
				return fmt.Errorf("a run is open, and none was sent that has not ended; it says %q", said)
			}
			p.goOn()
			continue
		}
		if p.want != nil {
			switch is, err := p.house.holds(p, p.want); {
			case err != nil:
				return err
			case is == "":
				p.arrived(p.want)
			default:
				p.want, p.undo = nil, false
				p.did["came to nothing"]++
			}
			continue
		}
		if !p.dropPlan(a) {
			return nil
		}
	}
	return fmt.Errorf("it does not come to rest; its work says %q, and %s", last, p.told(p.page()))
}

// dropPlan takes a step out of the plan, and tells whether there was one.
func (p *person) dropPlan(a answer) bool {
	m := stepForm.FindStringSubmatch(a.body)
	if m != nil {
		p.post(html.UnescapeString(m[1]), "step", "1")
	}
	return m != nil
}

// record is what the last deletion of a partition left.
func (p *person) record(x part) string {
	list, _ := filepath.Glob(filepath.Join(p.house.data, "records", "d-*", "record.json"))
	id, newest := "", time.Time{}
	for _, f := range list {
		var r struct {
			ID    string
			Time  time.Time
			Drive struct{ Serial string }
			Span  struct {
				Start int64 `json:"start_lba"`
			}
		}
		if b, err := os.ReadFile(f); err == nil && json.Unmarshal(b, &r) == nil && r.Drive.Serial == p.serial && r.Span.Start == int64(x.at)*2048 && r.Time.After(newest) {
			id, newest = r.ID, r.Time
		}
	}
	return id
}

func (p *person) bringBack() {
	i := p.pick(true)
	if i < 0 {
		return
	}
	a, err := p.get(p.page())
	if err != nil || a.status != 200 || stepForm.MatchString(a.body) {
		return
	}
	want := slices.Clone(p.parts)
	want[i].away = false
	if a, err = p.post("/records/"+p.record(p.parts[i])+"/bring-back", "x", ""); err == nil && a.status == 200 {
		p.carryOut(want)
	}
}

func (p *person) backUp() {
	i := p.pick(false)
	if i < 0 || len(p.house.backups()[p.serial]) > 3 {
		return
	}
	number, err := p.number(p.parts[i])
	if err != nil {
		return
	}
	a, err := p.post("/jobs/"+p.job+"/back-up?bay="+p.bay, "partition", number, "kind", "image")
	if err == nil && a.notDone {
		return
	}
	p.may("back-up")
	if err != nil || a.status != 200 {
		return
	}
	if _, said, err := p.ended(); err == nil && strings.Contains(said, "verified") && !strings.Contains(said, "waits") {
		p.has("back-up")
		p.did["backed up"]++
	}
}

func (p *person) dropBackup() {
	mine := p.house.backups()[p.serial]
	if len(mine) < 2 {
		return
	}
	a, err := p.post("/shelf/delete", "backup", mine[p.rnd.IntN(len(mine))], "reason", "it is old")
	if err == nil && a.notDone {
		return
	}
	p.may("delete-backup")
	if err == nil && strings.Contains(a.said(), "The backup was deleted") {
		p.has("delete-backup")
		p.did["backup deleted"]++
	}
}

func (p *person) lookAround() {
	for _, path := range []string{"/", "/shelf", "/trail", "/jobs/" + p.job + "/hand-over?bay=" + p.bay, "/jobs/" + p.job + "/safeguard?bay=" + p.bay, "/healthz"} {
		if _, err := p.get(path); err == nil {
			p.did["looked"]++
		}
	}
}

// moveBay takes the drive out of its bay. It is put in again by what comes next.
func (p *person) moveBay() {
	a, err := p.post("/dock/detach", "bay", p.bay)
	if err == nil && a.notDone {
		return
	}
	p.may("detach")
	if err == nil && a.status == 200 && strings.Contains(a.said(), "Bay "+p.bay+" is empty") {
		p.has("detach")
		p.did["detached"]++
	}
}

func (p *person) attach() {
	a, err := p.post("/dock/attach", "file", p.file(), "bay", p.bay, "job", p.job, "model", "Quayline 320", "serial", p.serial)
	if err == nil && a.notDone {
		return
	}
	p.may("attach")
	p.did["attached"]++
	for range 40 {
		if in, err := p.inBay(); err != nil || in {
			return
		}
		time.Sleep(50 * time.Millisecond)
	}
}

// arrive brings six people in, with a drive each.
func (h *house) arrive(rnd *rand.Rand) ([]*person, error) {
	for i, login := range []string{"fourth", "fifth", "sixth"} {
		if _, err := h.db.Exec("INSERT INTO technicians (login, name, password_hash) SELECT ?, ?, password_hash FROM technicians WHERE login = 'ines'", login, fmt.Sprintf("Technician %d", i+4)); err != nil {
			return nil, err
		}
	}
	var out []*person
	for i, who := range [][2]string{{"ines", "ines"}, {"tobias", "tobias"}, {"odile", "odile"}, {"fourth", "ines"}, {"fifth", "ines"}, {"sixth", "ines"}} {
		jar, _ := cookiejar.New(nil)
		p := &person{
			name: who[0], login: who[0], password: "lantern-" + who[1], job: fmt.Sprintf("J-%d", 1042+i), bay: string("ADEFGH"[i]), serial: fmt.Sprintf("DAY%d-00%d-%04X", i, i, 0xA100+i*257),
			house: h, rnd: rand.New(rand.NewPCG(rnd.Uint64(), 2)), client: &http.Client{Jar: jar, Timeout: 60 * time.Second}, least: map[string]int{}, most: map[string]int{}, did: map[string]int{},
		}
		if a, err := p.post("/sign-in", "login", p.login, "password", p.password); err != nil || a.status != 200 {
			return nil, fmt.Errorf("%s does not get in: %v %d", p.name, err, a.status)
		}
		if i == 0 {
			if a, err := p.post("/dock/no-shelf", "bay", "B"); err != nil || a.status != 200 {
				return nil, fmt.Errorf("bay B stays a shelf: %v %d", err, a.status)
			}
		}
		if a, err := p.post("/dock/detach", "bay", p.bay); err != nil || !strings.Contains(a.said(), "is empty") {
			return nil, fmt.Errorf("bay %s is not empty: %v %s", p.bay, err, a.said())
		}
		if err := p.newDrive(filepath.Join(h.data, "dock", p.file()), uint32(0x7f3b0000+i)); err != nil {
			return nil, err
		}
		p.attach()
		p.may("attach") // to begin with, whatever came of it
		out = append(out, p)
	}
	return out, nil
}
