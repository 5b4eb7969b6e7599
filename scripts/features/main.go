// Command features fills an NTFS volume that an operating system's driver has mounted with files that
// have everything that NTFS knows, lists what such a volume has, and compares lists. It shares no
// code with the application: scripts/features-check.sh.
package main

import (
	"bytes"
	"crypto/sha256"
	"encoding/binary"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"log"
	"maps"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"golang.org/x/sys/unix"
)

func main() {
	log.SetFlags(0)
	var err error
	switch {
	case len(os.Args) == 3 && os.Args[1] == "fill":
		err = fill(os.Args[2])
	case len(os.Args) == 4 && os.Args[1] == "list":
		err = list(os.Args[2], os.Args[3])
	case len(os.Args) > 3 && os.Args[1] == "compare":
		err = compare(os.Args[2], os.Args[3:])
	default:
		err = errors.New("usage: features fill FOLDER | list FOLDER-WITH-XATTR FOLDER-WITH-STREAMS | compare BEFORE WAY=AFTER")
	}
	if err != nil {
		log.Fatal(err)
	}
}

var rng = rand.New(rand.NewPCG(16, 14))

func noise(n int) []byte {
	b := make([]byte, n)
	for i := range b {
		b[i] = byte(rng.Uint32())
	}
	return b
}

// fill makes files in a volume that ntfs-3g has mounted with streams_interface=windows.
func fill(dir string) error {
	at := func(format string, args ...any) string { return filepath.Join(dir, fmt.Sprintf(format, args...)) }
	write := func(path string, b []byte) error {
		if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
			return err
		}
		return os.WriteFile(path, b, 0o644)
	}
	set := func(path, name string, b []byte) error {
		if err := unix.Lsetxattr(path, "system.ntfs_"+name, b, 0); err != nil {
			return fmt.Errorf("%s of %s: %w", name, path, err)
		}
		return nil
	}
	var failed error
	do := func(err error) {
		if failed == nil {
			failed = err
		}
	}
	for i := range 120 {
		p := at("plain/folder %d/file %03d über.dat", i%7, i)
		do(write(p, noise([]int{0, 100, 700, 5000, 300_000}[i%5])))
		do(set(p, "acl", descriptor(i)))
		do(set(p, "attrib", binary.LittleEndian.AppendUint32(nil, []uint32{0x20, 0x22, 0x01, 0x06}[i%4])))
	}
	for i := range 40 {
		p := at("extended/file %02d.txt", i)
		do(write(p, noise(600*i)))
		do(set(p, "ea", extended(i)))
	}
	for i := range 30 {
		do(sparse(at("sparse/file %02d.bin", i), 1+i%3, int64(1+i)<<20))
	}
	do(sparse(at("sparse/large.bin"), 4, 150<<20))
	do(os.MkdirAll(at("compressed"), 0o755))
	if failed == nil {
		do(set(at("compressed"), "attrib", binary.LittleEndian.AppendUint32(nil, 0x800)))
	}
	for i := range 30 {
		do(write(at("compressed/text %02d.txt", i), bytes.Repeat([]byte(fmt.Sprintf("line %d of a long text\r\n", i)), 20+i*400)))
	}
	for i := range 30 {
		p := at("streams/sheet %02d.txt", i)
		do(write(p, noise(50*i)))
		for k := range 1 + i%3 {
			do(os.WriteFile(fmt.Sprintf("%s:note %d", p, k), noise(10+k*9000), 0o644))
		}
	}
	do(os.WriteFile(at("streams/sheet 00.txt:large"), noise(400_000), 0o644))
	for i := range 20 {
		p := at("links/file %02d.dat", i)
		do(write(p, noise(3000)))
		do(os.Link(p, at("links/second name of %02d.dat", i)))
	}
	for i := range 20 {
		p := at("short/a rather long name %02d.document", i)
		do(write(p, noise(900)))
		do(set(p, "dos_name", []byte(fmt.Sprintf("SHORT%03d.DOC", i))))
	}
	for i := range 10 {
		p := at("known/by its id %02d.dat", i)
		do(write(p, noise(400)))
		do(set(p, "object_id", append(noise(16), make([]byte, 48)...)))
	}
	do(os.MkdirAll(at("points"), 0o755))
	for i := range 5 {
		p := at("points/junction %d", i)
		do(os.Mkdir(p, 0o755))
		do(set(p, "reparse_data", junction(fmt.Sprintf(`\??\C:\elsewhere %d`, i))))
	}
	for i := range 20 { // times last, nothing touches the files afterwards
		p := at("times/file %02d.dat", i)
		do(write(p, noise(2000)))
		var b []byte
		for k := range 4 {
			year := []int{1650, 1969, 2024, 2300}[(i+k)%4]
			b = binary.LittleEndian.AppendUint64(b, uint64(ticks(time.Date(year, 3, 4, 5, 6, i, 700, time.UTC))+int64(k)))
		}
		do(set(p, "times", b))
	}
	return failed
}

// ticks are tenths of microseconds since 1601, as NTFS has times.
func ticks(t time.Time) int64 { return t.Unix()*1e7 + int64(t.Nanosecond()/100) + 116444736000000000 }

// sparse makes a file with so many pieces of data, so far apart.
func sparse(path string, pieces int, apart int64) error {
	if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
		return err
	}
	f, err := os.Create(path)
	if err != nil {
		return err
	}
	defer f.Close()
	for i := range pieces {
		if _, err := f.WriteAt(noise(70_000), int64(i+1)*apart); err != nil {
			return err
		}
	}
	return f.Close()
}

// descriptor is a security descriptor that no other file has: [MS-DTYP] section 2.4.6.
func descriptor(i int) []byte {
	sid := func(parts ...uint32) []byte {
		b := []byte{1, byte(len(parts)), 0, 0, 0, 0, 0, 5}
		for _, p := range parts {
			b = binary.LittleEndian.AppendUint32(b, p)
		}
		return b
	}
	owner, group := sid(32, 544), sid(32, 544)
	whom := sid(21, 1001, 2002, 3003, uint32(5000+i))
	ace := append([]byte{0, 0, byte(8 + len(whom)), 0, 0xff, 0x01, 0x1f, 0}, whom...)
	acl := append([]byte{2, 0, byte(8 + len(ace)), 0, 1, 0, 0, 0}, ace...)
	b := []byte{1, 0, 4, 0x80}
	for _, at := range []int{20, 20 + len(owner), 0, 20 + len(owner) + len(group)} {
		b = binary.LittleEndian.AppendUint32(b, uint32(at))
	}
	return slices.Concat(b, owner, group, acl)
}

// extended is a list of extended attributes: [MS-FSCC] section 2.4.16, as it lies in $EA.
func extended(i int) []byte {
	var out []byte
	for k := range 1 + i%3 {
		name, value := fmt.Sprintf("KEY%d", k), noise(5+i*7)
		e := []byte{0, 0, 0, 0, 0, byte(len(name)), byte(len(value)), byte(len(value) >> 8)}
		e = append(append(append(e, name...), 0), value...)
		for len(e)%4 > 0 {
			e = append(e, 0)
		}
		binary.LittleEndian.PutUint32(e, uint32(len(e))) // the last one too, as NTFS keeps it
		out = append(out, e...)
	}
	return out
}

// junction is a mount point: [MS-FSCC] section 2.1.2.5.
func junction(to string) []byte {
	var name []byte
	for _, c := range to {
		name = append(name, byte(c), byte(c>>8))
	}
	b := binary.LittleEndian.AppendUint32(nil, 0xa0000003)
	data := make([]byte, 8)
	binary.LittleEndian.PutUint16(data[2:], uint16(len(name)))
	binary.LittleEndian.PutUint16(data[4:], uint16(len(name)+2))
	data = slices.Concat(data, name, make([]byte, 4))
	b = binary.LittleEndian.AppendUint16(b, uint16(len(data)))
	return slices.Concat(b, []byte{0, 0}, data)
}

// list prints what every file has: its path, what it is, and how it is.
func list(dir, streams string) error {
	names := map[uint64][]string{}
	return errors.Join(filepath.WalkDir(dir, func(path string, e fs.DirEntry, err error) error {
		if err != nil || path == dir {
			return err
		}
		rel, _ := filepath.Rel(dir, path)
		var st unix.Stat_t
		if err := unix.Lstat(path, &st); err != nil {
			return err
		}
		say := func(what, how string) { fmt.Printf("%s\t%s\t%s\n", rel, what, how) }
		get := func(name string) []byte {
			b := make([]byte, 1<<16)
			n, err := unix.Lgetxattr(path, name, b)
			if err != nil {
				return nil
			}
			return b[:n]
		}
		var flags uint32
		if a := get("system.ntfs_attrib"); len(a) == 4 {
			flags = binary.LittleEndian.Uint32(a)
		}
		if e.Type().IsRegular() {
			f, err := os.Open(path)
			if err != nil {
				return err
			}
			sum := sha256.New()
			n, err := io.Copy(sum, f)
			f.Close()
			if err != nil {
				return fmt.Errorf("%s: %w", rel, err)
			}
			say("contents", fmt.Sprintf("%d %x", n, sum.Sum(nil)))
			say("times", hex.EncodeToString(get("system.ntfs_times")))
			if flags&0x200 != 0 {
				say("sparse", fmt.Sprintf("holes: %v", st.Blocks*512 < st.Size/2))
			}
			if flags&0x800 != 0 && n > 8192 {
				say("compressed", fmt.Sprintf("takes less: %v", st.Blocks*512 < st.Size))
			}
			if st.Nlink > 1 {
				names[st.Ino] = append(names[st.Ino], rel)
			}
		} else if flags&0x800 != 0 {
			say("compressed", "folder")
		}
		say("attributes", fmt.Sprintf("%#x", flags&^0xa30)) // sparse, compressed, reparse and normal are told apart, or say nothing
		for what, name := range map[string]string{"descriptors": "acl", "extended attributes": "ea", "short names": "dos_name", "object ids": "object_id", "reparse points": "reparse_data"} {
			if b := get("system.ntfs_" + name); len(b) > 0 {
				if what == "object ids" {
					b = b[:16]
				}
				say(what, fmt.Sprintf("%x", sha256.Sum256(b)))
			}
		}
		all := make([]byte, 1<<16)
		n, err := unix.Llistxattr(path, all)
		if err != nil || !e.Type().IsRegular() {
			return nil
		}
		for _, name := range strings.Split(string(all[:n]), "\x00") {
			if stream, ok := strings.CutPrefix(name, "user."); ok {
				b, err := os.ReadFile(filepath.Join(streams, rel) + ":" + stream)
				if err != nil {
					return err
				}
				say("streams", fmt.Sprintf("%s %d %x", stream, len(b), sha256.Sum256(b)))
			}
		}
		return nil
	}), linked(names))
}

func linked(names map[uint64][]string) error {
	for _, same := range names {
		slices.Sort(same)
		for _, p := range same {
			fmt.Printf("%s\tsecond names\t%s\n", p, strings.Join(same, ", "))
		}
	}
	return nil
}

// kinds reads a list: by feature and path, how it is.
func kinds(path string) (map[string]map[string]string, error) {
	b, err := os.ReadFile(path)
	if err != nil {
		return nil, err
	}
	out := map[string]map[string]string{}
	for _, line := range strings.Split(strings.TrimSpace(string(b)), "\n") {
		f := strings.SplitN(line, "\t", 3)
		if len(f) < 3 {
			return nil, fmt.Errorf("%s: %q", path, line)
		}
		if out[f[1]] == nil {
			out[f[1]] = map[string]string{}
		}
		out[f[1]][f[0]] += f[2] + ";"
	}
	return out, nil
}

// compare prints how many of each feature every way kept, and which it did not.
func compare(before string, ways []string) error {
	was, err := kinds(before)
	if err != nil {
		return err
	}
	fmt.Printf("%-20s %8s", "", "before")
	after := map[string]map[string]map[string]string{}
	var names []string
	for _, w := range ways {
		name, path, _ := strings.Cut(w, "=")
		if after[name], err = kinds(path); err != nil {
			return err
		}
		names = append(names, name)
		fmt.Printf(" %10s", name)
	}
	fmt.Println()
	var lost []string
	for _, what := range slices.Sorted(maps.Keys(was)) {
		fmt.Printf("%-20s %8d", what, len(was[what]))
		for _, name := range names {
			kept := 0
			for path, how := range was[what] {
				if after[name][what][path] == how {
					kept++
				} else if len(lost) < 40 {
					lost = append(lost, fmt.Sprintf("%s: %s of %s: %.160s, was %.160s", name, what, path, after[name][what][path], how))
				}
			}
			fmt.Printf(" %10d", kept)
		}
		fmt.Println()
	}
	slices.Sort(lost)
	for _, l := range lost {
		fmt.Println("not kept:", l)
	}
	return nil
}
