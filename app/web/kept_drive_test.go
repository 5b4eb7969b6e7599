package web

import (
	"net/http"
	"path/filepath"
	"reflect"
	"strings"
	"sync"
	"testing"
	"time"
	"unsafe"

	"golang.org/x/sys/unix"

	"jadetrail/core/plan"
	"jadetrail/core/survey"
)

// reads counts the reads from drives, whoever does them, until it is asked how many there were, and of which.
func (s *front) reads(t *testing.T) func() map[string]int {
	t.Helper()
	fd, err := unix.InotifyInit1(unix.IN_NONBLOCK)
	if err == nil {
		_, err = unix.InotifyAddWatch(fd, filepath.Join(s.Data, "drives"), unix.IN_ACCESS)
	}
	if err != nil {
		t.Fatal(err)
	}
	return func() map[string]int {
		defer unix.Close(fd)
		of := map[string]int{}
		buf := make([]byte, 1<<16)
		for {
			n, err := unix.Read(fd, buf)
			if err != nil || n <= 0 {
				return of
			}
			for at := 0; at < n; {
				e := (*unix.InotifyEvent)(unsafe.Pointer(&buf[at]))
				at += unix.SizeofInotifyEvent
				name := strings.TrimRight(string(buf[at:at+int(e.Len)]), "\x00")
				of[name]++
				at += int(e.Len)
			}
		}
	}
}

// TestListsReadNoDrive has ten people look at every list at once, with plans and without: no drive is read.
func TestListsReadNoDrive(t *testing.T) {
	s := open(t)
	s.planned(t, plan.Step{Partition: "6", Body: plan.Deletion{Release: "r", Waiver: "w"}})
	lists := []string{"/", "/dock", "/jobs", "/jobs?q=Tidewater", "/trail", "/find?q=J-1042", "/customers"}
	time.Sleep(2500 * time.Millisecond) // until what was written is old enough to be kept
	for range 2 {
		for _, list := range lists {
			s.get(t, list)
		}
	}
	count := s.reads(t)
	var people sync.WaitGroup
	for range 10 {
		people.Go(func() {
			for _, list := range lists {
				r, err := s.client.Get(s.url + list)
				if err != nil || r.StatusCode != http.StatusOK {
					t.Errorf("%s: %v", list, err)
					return
				}
				r.Body.Close()
			}
		})
	}
	people.Wait()
	if read := count(); len(read) > 0 {
		t.Errorf("drives were read: %v", read)
	}
	count = s.reads(t)
	b, err := s.Bay("A")
	if err != nil {
		t.Fatal(err)
	}
	d, err := s.Open(b, true)
	if err != nil {
		t.Fatal(err)
	}
	defer d.Close()
	if read := count(); len(read) == 0 {
		t.Error("a drive that is opened to be written to is not read")
	}
}

// TestKeptAsRead compares what is kept of each drive with the drive: the same layout, table and sign, and the same
// volumes, also after somebody has worked on what was handed out.
func TestKeptAsRead(t *testing.T) {
	s := open(t)
	time.Sleep(2500 * time.Millisecond)
	bays, err := s.Store.Bays()
	if err != nil {
		t.Fatal(err)
	}
	for range 2 {
		for _, b := range bays {
			if b.Image == nil {
				continue
			}
			first, err := s.Open(&b, false)
			if err != nil {
				t.Fatal(err)
			}
			first.Survey.Layout.Spans[0].Name = "spoilt"
			first.Survey.Table.Relabel(map[int]int{1: 90, 5: 91, 6: 92})
			first.Survey.Forget(1)
			if first.PC != nil {
				clear(first.PC.Letters)
			}
			first.Close()
			count := s.reads(t)
			d, err := s.Open(&b, false)
			if err != nil {
				t.Fatal(err)
			}
			defer d.Close()
			if read := count(); len(read) > 0 {
				t.Errorf("bay %s: opened again, it is read: %v", b.Letter, read)
			}
			want, err := survey.Read(d.Image, d.PC)
			if err != nil {
				t.Fatal(err)
			}
			want.Layout.Serial = d.Identity.Serial
			got := d.Survey
			if !reflect.DeepEqual(got.Layout, want.Layout) || !reflect.DeepEqual(got.Table, want.Table) || !reflect.DeepEqual(got.Sign, want.Sign) {
				t.Errorf("bay %s:\n%+v, read\n%+v", b.Letter, got.Layout, want.Layout)
			}
			for n, v := range want.Volumes() {
				is, err1 := v.Info()
				again, err2 := got.Volume(n).Info()
				if err1 != nil || err2 != nil || !reflect.DeepEqual(is, again) {
					t.Errorf("bay %s, partition %d: %+v, read %+v; %v, %v", b.Letter, n, again, is, err1, err2)
				}
			}
			if len(got.Volumes()) != len(want.Volumes()) {
				t.Errorf("bay %s: %d volumes of %d", b.Letter, len(got.Volumes()), len(want.Volumes()))
			}
		}
	}
}
