// Package block knows the block devices of this machine: what drives there are, what is known of each, and which of
// them belong to the machine itself, so that nobody may work on them. It reads what the Linux kernel tells in sysfs
// (Documentation/ABI/stable/sysfs-block), procfs and the database of udev, and writes nothing.
package block

import (
	"bytes"
	"cmp"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"jadetrail/core/disk"
)

// Host is a machine. Its zero value is this one; tests give one of their own a root folder.
type Host struct{ Root string }

// Drive is a whole drive of a machine, as its kernel tells of it. What it does not tell is empty or 0.
type Drive struct {
	Name       string     `json:"name"`                             // the kernel's: sda, nvme0n1, loop3
	Number     string     `json:"device_number"`                    // major and minor number, "8:16"
	Sequence   string     `json:"sequence"`                         // of all drives since the machine was started; never given twice
	Bytes      disk.Bytes `json:"size_bytes"`                       // 0 without a medium
	Sector     disk.Bytes `json:"sector_bytes"`                     // logical, in which it is addressed
	Physical   disk.Bytes `json:"physical_sector_bytes"`            // in which it writes
	Offset     disk.Bytes `json:"alignment_offset_bytes,omitempty"` // of its first whole physical sector
	Model      string     `json:"model,omitempty"`
	Serial     string     `json:"serial,omitempty"`
	Bus        string     `json:"bus"`            // usb, nvme, ata, scsi, mmc, virtio, nbd, loop
	Port       string     `json:"port,omitempty"` // where it is plugged in
	Rotates    bool       `json:"rotates"`
	Removable  bool       `json:"removable"`
	ReadOnly   bool       `json:"read_only"`
	Discards   bool       `json:"discards"` // it can be told what is not needed any more
	Partitions []string   `json:"partitions,omitempty"`
	// Image is what a loop device shows whole, from its first byte to its last.
	Image string `json:"image,omitempty"`
	// Own are the reasons why it belongs to the machine itself, in sentences; nobody may work on it then.
	Own []string `json:"own,omitempty"`
}

// Path is where the drive is opened.
func (d *Drive) Path() string { return "/dev/" + d.Name }

// ErrNoDrive tells that there is no drive of a name.
var ErrNoDrive = errors.New("there is no such drive")

// drives are the names of whole drives: disks, sticks, cards, network and loop devices. Sets, encrypted and other
// devices that the kernel makes of these are not worked on, nor are the parts of a card that hold its own programs.
var drives = regexp.MustCompile(`^(sd[a-z]+|nvme[0-9]+n[0-9]+|mmcblk[0-9]+|vd[a-z]+|nbd[0-9]+|loop[0-9]+)$`)

// maxFact bounds what is read of one fact.
const maxFact = 64 << 10

func (h Host) path(parts ...string) string {
	return filepath.Join(append([]string{cmp.Or(h.Root, "/")}, parts...)...)
}

// fact is what a small file of the kernel's says, "" where it is not there.
func (h Host) fact(parts ...string) string {
	b, err := disk.ReadSmall(h.path(parts...), maxFact)
	if err != nil {
		return ""
	}
	return strings.TrimSpace(string(bytes.TrimRight(b, "\x00")))
}

func (h Host) number(parts ...string) disk.Bytes {
	n, err := strconv.ParseInt(h.fact(parts...), 10, 64)
	if err != nil || n < 0 {
		return 0
	}
	return disk.Bytes(n)
}

// Drives are all drives of the machine that have a medium, by their names.
func (h Host) Drives() ([]Drive, error) {
	list, err := os.ReadDir(h.path("sys", "block"))
	if err != nil {
		return nil, fmt.Errorf("what drives there are cannot be read: %w", err)
	}
	used, err := h.inUse()
	if err != nil {
		return nil, err
	}
	var out []Drive
	for _, e := range list {
		if !drives.MatchString(e.Name()) {
			continue
		}
		if d, err := h.drive(e.Name(), used); err == nil && d.Bytes > 0 {
			out = append(out, *d)
		}
	}
	slices.SortFunc(out, func(a, b Drive) int {
		return cmp.Or(cmp.Compare(len(a.Name), len(b.Name)), cmp.Compare(a.Name, b.Name))
	})
	return out, nil
}

// Drive is the drive at a path in /dev, which may be a link. ErrNoDrive where there is none.
func (h Host) Drive(path string) (*Drive, error) {
	name, err := h.nameAt(path)
	if err != nil || !drives.MatchString(name) {
		return nil, fmt.Errorf(
			"%s: %w; what counts as one are whole disks, sticks, cards, network and loop devices", path, ErrNoDrive,
		)
	}
	used, err := h.inUse()
	if err != nil {
		return nil, err
	}
	return h.drive(name, used)
}

// nameAt is the kernel's name of the device at a path, whatever links lead there.
func (h Host) nameAt(path string) (string, error) {
	real, err := filepath.EvalSymlinks(h.path(path))
	if err != nil {
		return "", err
	}
	dir, name := filepath.Split(real)
	if filepath.Clean(dir) != h.path("dev") {
		return "", fmt.Errorf("%s: %w", path, ErrNoDrive)
	}
	return name, nil
}

func (h Host) drive(name string, used map[string][]string) (*Drive, error) {
	at := func(parts ...string) []string { return append([]string{"sys", "block", name}, parts...) }
	d := &Drive{
		Name: name, Number: h.fact(at("dev")...), Sequence: h.fact(at("diskseq")...),
		Bytes:  h.number(at("size")...) * 512, // always in 512 bytes
		Sector: h.number(at("queue", "logical_block_size")...), Physical: h.number(at("queue", "physical_block_size")...),
		Offset:  h.number(at("alignment_offset")...),
		Rotates: h.fact(at("queue", "rotational")...) == "1", Removable: h.fact(at("removable")...) == "1",
		ReadOnly: h.fact(at("ro")...) == "1", Discards: h.number(at("queue", "discard_max_bytes")...) > 0,
	}
	if d.Number == "" {
		return nil, fmt.Errorf("%s: %w", name, ErrNoDrive)
	}
	h.name(d)
	list, err := os.ReadDir(h.path(at()...))
	if err != nil {
		return nil, err
	}
	for _, e := range list {
		if h.fact(at(e.Name(), "partition")...) != "" {
			d.Partitions = append(d.Partitions, e.Name())
		}
	}
	for _, part := range append([]string{name}, d.Partitions...) {
		d.Own = append(d.Own, used[part]...)
	}
	return d, nil
}

// name gives a drive its bus, port, model and serial number: as udev tells them, else as the kernel does.
func (h Host) name(d *Drive) {
	told := h.udev(d.Number)
	link, _ := os.Readlink(h.path("sys", "block", d.Name))
	d.Bus, d.Port = busOf(d.Name, link), told["ID_PATH"]
	of := func(fact ...string) string { return h.fact(append([]string{"sys", "block", d.Name}, fact...)...) }
	model := strings.TrimSpace(strings.ReplaceAll(told["ID_MODEL"], "_", " "))
	d.Model = cmp.Or(model, of("device", "model"), of("device", "name"))
	if vendor := of("device", "vendor"); d.Bus == "usb" && vendor != "" && !strings.HasPrefix(d.Model, vendor) {
		d.Model = strings.TrimSpace(vendor + " " + d.Model)
	}
	d.Serial = cmp.Or(told["ID_SERIAL_SHORT"], of("device", "serial"), of("serial"), h.unitSerial(d.Name))
	if d.Bus == "loop" {
		d.Port = of("loop", "backing_file")
		if st, err := os.Stat(h.path(d.Port)); err == nil && of("loop", "offset") == "0" && disk.Bytes(st.Size()) == d.Bytes {
			d.Image = d.Port
		}
	}
}

// unitSerial is the serial number of a SCSI or ATA drive: its vital product data page 0x80, of which the fourth byte
// says how long the number is (SPC-5, 7.7.17).
func (h Host) unitSerial(name string) string {
	b, err := disk.ReadSmall(h.path("sys", "block", name, "device", "vpd_pg80"), maxFact)
	if err != nil || len(b) < 4 || b[1] != 0x80 || len(b) < 4+int(b[3]) {
		return ""
	}
	return strings.TrimSpace(string(b[4:][:b[3]]))
}

// udev is what its database tells of a device.
func (h Host) udev(number string) map[string]string {
	out := map[string]string{}
	for line := range strings.Lines(h.fact("run", "udev", "data", "b"+number)) {
		if pair, is := strings.CutPrefix(strings.TrimSpace(line), "E:"); is {
			if key, value, ok := strings.Cut(pair, "="); ok {
				out[key] = value
			}
		}
	}
	return out
}

// buses are the ways in which a drive is reached, by what its place among the kernel's devices has in it.
var buses = []struct{ in, bus string }{
	{"/usb", "usb"}, {"/nvme", "nvme"}, {"/ata", "ata"}, {"/mmc", "mmc"}, {"/virtio", "virtio"}, {"/host", "scsi"},
}

func busOf(name, link string) string {
	for _, kind := range []string{"loop", "nbd"} {
		if strings.HasPrefix(name, kind) {
			return kind
		}
	}
	for _, b := range buses {
		if strings.Contains(link, b.in) {
			return b.bus
		}
	}
	return "not known"
}

// missing tells that what a file would say is not there to be said: the kernel has no such thing.
func missing(err error) bool { return errors.Is(err, fs.ErrNotExist) }
