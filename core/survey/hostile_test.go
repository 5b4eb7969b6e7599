package survey

import (
	"encoding/binary"
	"encoding/hex"
	"encoding/json"
	"io"
	"os"
	"runtime/metrics"
	"slices"
	"syscall"
	"testing"
	"time"

	"jadetrail/core/disk"
	"jadetrail/core/finding"
	"jadetrail/core/volume"
	"jadetrail/core/volume/recognise"
)

// damage is one damaged image: the drive of kinds.img with bytes put over it, and the
// finding that it must give, or with none what is no longer there.
type damage struct {
	Name    string `json:"name"`
	Patches []struct {
		Partition int    `json:"partition"` // places count from its start, 0 for the drive
		Off       int64  `json:"off"`       // negative from the end
		Hex       string `json:"hex"`
		Repeat    int    `json:"repeat,omitempty"`
	} `json:"patches"`
	Code string `json:"code"`
}

// look does everything with a drive that looking at it does.
func look(dev disk.Device) finding.List {
	sv, err := Read(dev, nil)
	if err != nil {
		return nil
	}
	found := sv.Check()
	for _, v := range sv.Volumes() {
		lookInto(v)
	}
	return found
}

func lookInto(v volume.Volume) {
	v.Fingerprint()
	v.Agrees()
	v.Allocated(func(a, b disk.Bytes) error { return nil })
	volume.Summarise(v)
	files, _ := v.Files()
	for i, f := range files {
		if i > 300 {
			break
		}
		v.Stat(f.Path)
		if f.Kind == volume.Folder {
			v.List(f.Path, "", 50)
		}
		if r, err := v.Open(f); err == nil {
			io.Copy(io.Discard, io.NewSectionReader(r, 0, int64(min(f.Bytes, disk.MiB))))
		}
	}
	page, next, _ := v.List("", "", 5)
	if len(page) == 5 && next != "" {
		v.List("", next, 5)
	}
}

// processorTime is what this process has used of the processors, whatever else the
// machine does.
func processorTime() time.Duration {
	var u syscall.Rusage
	syscall.Getrusage(syscall.RUSAGE_SELF, &u)
	return time.Duration(u.Utime.Nano() + u.Stime.Nano())
}

// TestDamagedImages gives each image of the corpus the finding that it must give.
func TestDamagedImages(t *testing.T) {
	b, err := os.ReadFile("testdata/damaged.json")
	if err != nil {
		t.Fatal(err)
	}
	var list []damage
	if err := json.Unmarshal(b, &list); err != nil {
		t.Fatal(err)
	}
	base := kinds(t)
	sound, err := Read(base, nil)
	if err != nil {
		t.Fatal(err)
	}
	had := map[string]int{}
	for _, f := range look(base) {
		had[f.Code]++
	}
	for _, d := range list {
		over, err := disk.NewOverlay(base, t.TempDir())
		if err != nil {
			t.Fatal(err)
		}
		for _, p := range d.Patches {
			raw, err := hex.DecodeString(p.Hex)
			if err != nil {
				t.Fatal(d.Name, err)
			}
			start, size := disk.Bytes(0), base.Size()
			if p.Partition > 0 {
				s, _ := sound.Layout.Find(p.Partition)
				start, size = s.Start.Offset(512), s.Bytes
			}
			off := p.Off
			if off < 0 {
				off += int64(size)
			}
			for i := range max(p.Repeat, 1) {
				over.WriteAt(raw, int64(start)+off+int64(i*len(raw)))
			}
		}
		began := processorTime()
		found := look(over)
		if took := processorTime() - began; took > 2*time.Second {
			t.Errorf("%s: takes %s of the processor", d.Name, took)
		}
		now := 0
		for _, f := range found {
			if f.Code == d.Code {
				now++
			}
		}
		if now <= had[d.Code] {
			var codes []string
			for _, f := range found {
				codes = append(codes, f.Code)
			}
			slices.Sort(codes)
			t.Errorf("%s: no finding %s, but %v", d.Name, d.Code, slices.Compact(codes))
		}
		over.Close()
	}
}

// FuzzKinds puts bytes over one of the volumes of each kind and looks at all of it.
// The input is the volume, then a row of places (4 bytes), lengths (1 byte) and bytes.
func FuzzKinds(f *testing.F) {
	base := kinds(f)
	sv, err := Read(base, nil)
	if err != nil {
		f.Fatal(err)
	}
	parts := sv.Layout.Partitions()
	for i := range parts {
		for _, off := range []uint32{13, 88, 96, 1024 + 24, 1024 + 40, 2056} {
			f.Add(append(binary.LittleEndian.AppendUint32([]byte{byte(i)}, off), 2, 0xff, 0x7f))
		}
	}
	f.Fuzz(func(t *testing.T, data []byte) {
		if len(data) == 0 {
			return
		}
		w := Window(base, parts[int(data[0])%len(parts)])
		over, err := disk.NewOverlay(w, "")
		if err != nil {
			t.Fatal(err)
		}
		defer over.Close()
		for data = data[1:]; len(data) > 5; {
			at := int64(binary.LittleEndian.Uint32(data)) % int64(w.Size())
			n := min(int(data[4]), len(data)-5)
			over.WriteAt(data[5:min(5+n, 5+int(int64(w.Size())-at))], at)
			data = data[5+n:]
		}
		began, peak := processorTime(), watchHeap()
		found, err := recognise.Open(over)
		if err == nil && found.Volume != nil {
			found.Volume.Check()
			lookInto(found.Volume)
		}
		if most := peak(); most > 64*disk.MiB {
			t.Errorf("it held %s of memory", most)
		}
		if took := processorTime() - began; took > 2*time.Second {
			t.Errorf("it took %s of the processor", took)
		}
	})
}

// watchHeap samples what the heap holds every millisecond; what it returns ends that
// and gives the most that was held beyond the beginning, garbage included.
func watchHeap() func() disk.Bytes {
	held := func() uint64 {
		m := []metrics.Sample{{Name: "/memory/classes/heap/objects:bytes"}}
		metrics.Read(m)
		return m[0].Value.Uint64()
	}
	start, stop, most := held(), make(chan struct{}), make(chan uint64)
	go func() {
		tick := time.NewTicker(time.Millisecond)
		defer tick.Stop()
		peak := start
		for {
			select {
			case <-tick.C:
				peak = max(peak, held())
			case <-stop:
				most <- max(peak, held())
				return
			}
		}
	}()
	return func() disk.Bytes {
		close(stop)
		return disk.Bytes(<-most - start)
	}
}
