package block

import (
	"errors"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"golang.org/x/sys/unix"

	"jadetrail/core/disk"
	"jadetrail/core/sample/loop"
)

// machine is a machine of files, as a kernel would show it: two disks, of which sda is the machine's own, a stick, a
// set, and what stands behind a loop device.
func machine(t *testing.T, more map[string]string) Host {
	t.Helper()
	root := t.TempDir()
	files := map[string]string{
		"proc/self/mountinfo": "22 1 8:2 / / rw shared:1 - ext4 /dev/sda2 rw\n23 22 0:21 / /proc rw - proc proc rw\n",
		"proc/swaps":          "Filename\tType\tSize\tUsed\tPriority\n",
	}
	device := func(name, number, size, place string, parts ...string) {
		at := "sys/devices/" + place + "/block/" + name
		for k, v := range map[string]string{
			"dev": number, "size": size, "ro": "0", "removable": "0", "diskseq": "7", "queue/logical_block_size": "512",
			"queue/physical_block_size": "4096", "queue/rotational": "0", "queue/discard_max_bytes": "0",
		} {
			files[at+"/"+k] = v + "\n"
		}
		for i, p := range parts {
			n := string(rune('1' + i))
			files[at+"/"+p+"/partition"] = n + "\n"
			files[at+"/"+p+"/dev"] = strings.Split(number, ":")[0] + ":" + string(number[len(number)-1]+byte(i)+1) + "\n"
			files["dev/"+p] = ""
		}
		files["dev/"+name] = ""
	}
	device("sda", "8:0", "2048000", "pci0/ata1/host0", "sda1", "sda2")
	device("sdb", "8:4", "4096000", "pci0/usb2/2-1/host1", "sdb1")
	device("nvme0n1", "259:0", "1000", "pci0/nvme/nvme0")
	device("dm-0", "253:0", "500", "virtual")
	device("sr0", "11:0", "500", "pci0/ata2/host3")
	device("sdz", "65:9", "0", "pci0/usb3/host4") // a reader without a card
	for k, v := range more {
		files[k] = v
	}
	links := map[string]string{}
	for name, text := range files {
		p := filepath.Join(root, name)
		if to, is := strings.CutPrefix(text, "-> "); is {
			links[p] = to
			continue
		}
		if err := os.MkdirAll(filepath.Dir(p), 0o755); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(p, []byte(text), 0o644); err != nil {
			t.Fatal(err)
		}
		if base, ok := strings.CutSuffix(p, "/dev"); ok && strings.Contains(base, "/block/") {
			rel, _ := filepath.Rel(root, base)
			links[filepath.Join(root, "sys/class/block", filepath.Base(base))] = "../../../" + rel
			if strings.Count(rel[strings.Index(rel, "/block/"):], "/") == 2 {
				links[filepath.Join(root, "sys/block", filepath.Base(base))] = "../../" + rel
			}
		}
	}
	for at, to := range links {
		if err := os.MkdirAll(filepath.Dir(at), 0o755); err != nil {
			t.Fatal(err)
		}
		if err := os.Symlink(to, at); err != nil {
			t.Fatal(err)
		}
	}
	return Host{Root: root}
}

func TestDrives(t *testing.T) {
	h := machine(t, map[string]string{
		"run/udev/data/b8:4": "S:x\nE:ID_MODEL=Pocket_Stick\nE:ID_SERIAL_SHORT=PS-0042\nE:ID_PATH=pci-0:usb-0:1\n",
		"sys/devices/pci0/ata1/host0/block/sda/device/vpd_pg80": "\x00\x80\x00\x08 A1-0099",
		"sys/devices/pci0/ata1/host0/block/sda/device/model":    "Desk drive\n",
	})
	all, err := h.Drives()
	if err != nil {
		t.Fatal(err)
	}
	var names []string
	for _, d := range all {
		names = append(names, d.Name)
	}
	if want := []string{"sda", "sdb", "nvme0n1"}; !slices.Equal(names, want) {
		t.Fatalf("drives %v, wanted %v: no sets, no discs, nothing without a medium", names, want)
	}
	if a := all[0]; a.Serial != "A1-0099" || a.Model != "Desk drive" || a.Bus != "ata" || !slices.Equal(a.Own, []string{"sda2 is mounted at /"}) {
		t.Errorf("sda is %+v", a)
	}
	if b := all[1]; b.Serial != "PS-0042" || b.Model != "Pocket Stick" || b.Bus != "usb" || b.Port != "pci-0:usb-0:1" ||
		b.Bytes != 4096000*512 || b.Sector != 512 || b.Physical != 4096 || len(b.Own) > 0 {
		t.Errorf("sdb is %+v", b)
	}
}

// TestOwn holds that whatever the machine uses is told to be its own, and that nothing is told to be free where that
// cannot be read.
func TestOwn(t *testing.T) {
	mounts := "22 1 8:2 / / rw shared:1 - ext4 /dev/sda2 rw\n"
	for name, x := range map[string]struct {
		more map[string]string
		want string
	}{
		"mounted by its number": {map[string]string{"proc/self/mountinfo": mounts + "30 22 8:5 / /mnt/a\\040b rw - vfat /dev/root rw\n"}, "sdb1 is mounted at /mnt/a b"},
		"mounted by its path":   {map[string]string{"proc/self/mountinfo": mounts + "30 22 0:44 / /mnt rw - btrfs /dev/sdb1 rw\n"}, "sdb1 is mounted at /mnt"},
		"mounted by a link": {map[string]string{
			"proc/self/mountinfo": mounts + "30 22 0:44 / /mnt rw - btrfs /dev/disk/by-label/x rw\n", "dev/disk/by-label/x": "-> ../../sdb1",
		}, "sdb1 is mounted at /mnt"},
		"mounted whole": {map[string]string{"proc/self/mountinfo": mounts + "30 22 8:4 / /mnt rw - vfat /dev/sdb rw\n"}, "sdb is mounted at /mnt"},
		"swapped on":    {map[string]string{"proc/swaps": "Filename Type\n/dev/sdb1 partition 5 0 -2\n"}, "sdb1 is swapped on"},
		"held by a set": {map[string]string{
			"sys/devices/pci0/usb2/2-1/host1/block/sdb/sdb1/holders/dm-0": "", "sys/devices/virtual/block/dm-0/dm/name": "vault\n",
		}, "sdb1 is held by dm-0 (vault)"},
		"behind a loop device": {map[string]string{
			"sys/devices/virtual/block/loop0/dev": "7:0\n", "sys/devices/virtual/block/loop0/loop/backing_file": "/dev/sdb\n",
		}, "sdb stands behind loop0"},
		"part of a file system of several": {map[string]string{"sys/fs/btrfs/0f/devices/sdb1": "-> x"}, "sdb1 is part of a file system in use"},
	} {
		t.Run(name, func(t *testing.T) {
			d, err := machine(t, x.more).Drive("/dev/sdb")
			if err != nil {
				t.Fatal(err)
			}
			if !slices.Equal(d.Own, []string{x.want}) {
				t.Errorf("told %q, wanted %q", d.Own, x.want)
			}
		})
	}
	h := machine(t, map[string]string{"proc/self/mountinfo": "what is this\n"})
	if _, err := h.Drives(); err == nil {
		t.Error("drives are told to be free though what is mounted cannot be understood")
	}
	if _, err := (Host{Root: t.TempDir()}).Drives(); err == nil {
		t.Error("a machine of which nothing is known has drives")
	}
}

func TestOnlyDrives(t *testing.T) {
	h := machine(t, map[string]string{"dev/mapper/vault": "-> ../dm-0", "etc/sdb": ""})
	for _, path := range []string{"/dev/dm-0", "/dev/mapper/vault", "/dev/sda1", "/dev/sr0", "/etc/sdb", "/dev/nothing", "/dev/../etc/sdb", ""} {
		if d, err := h.Drive(path); !errors.Is(err, ErrNoDrive) && !os.IsNotExist(err) {
			t.Errorf("%q is %v, %v", path, d, err)
		}
	}
}

// TestOpenLoop opens a real block device: for one alone, with its own sectors, protected where that is asked for.
func TestOpenLoop(t *testing.T) {
	for _, sector := range []int{512, 4096} {
		image := filepath.Join(t.TempDir(), "drive.img")
		if err := os.WriteFile(image, make([]byte, 4<<20), 0o600); err != nil {
			t.Fatal(err)
		}
		at := loop.Attach(t, image, sector)
		d, err := Host{}.Drive(at)
		if err != nil {
			t.Fatal(err)
		}
		if d.Bus != "loop" || d.Bytes != 4<<20 || d.Sector != disk.Bytes(sector) || d.Port != image {
			t.Errorf("%s is %+v", at, d)
		}
		var own, other Claims
		f, err := own.OpenPath(at, true)
		if err != nil {
			t.Fatal(err)
		}
		if _, err := other.OpenPath(at, false); !errors.Is(err, ErrBusy) {
			t.Errorf("claimed twice: %v", err)
		}
		again, err := own.OpenPath(at, false)
		if err != nil {
			t.Fatalf("whoever has claimed it cannot open it again: %v", err)
		}
		again.Close()
		im, err := disk.OpenDevice(f, true)
		if err != nil {
			t.Fatal(err)
		}
		if im.Size() != 4<<20 || im.SectorBytes() != disk.Bytes(sector) {
			t.Errorf("a drive of %d bytes with sectors of %d", im.Size(), im.SectorBytes())
		}
		full := []byte(strings.Repeat("jade", 4096))
		if _, err := im.WriteAt(full, 1<<20); err != nil {
			t.Fatal(err)
		}
		if err := im.Zero(1<<20+100, 9000); err != nil { // neither edge is a sector's
			t.Fatal(err)
		}
		if err := im.Sync(); err != nil {
			t.Fatal(err)
		}
		clear(full[100:9100])
		for from, read := range map[string]func() ([]byte, error){
			"the medium": func() ([]byte, error) { return im.Fresh(1<<20, disk.Bytes(len(full)), nil) },
			"the image":  func() ([]byte, error) { return disk.ReadFull(opened(t, image), 1<<20, disk.Bytes(len(full))) },
		} {
			if b, err := read(); err != nil || string(b) != string(full) {
				t.Errorf("%s has something else than was written: %v", from, err)
			}
		}
		if err := errors.Join(im.Close(), own.Release()); err != nil {
			t.Error(err)
		}
		// Taken out after the look, and then another one there.
		loop.Detach(t, at)
		if f, err := (Host{}).Claim(d); err == nil {
			f.Close()
			t.Error("a drive that was taken out is claimed")
		}
		if again := loop.Attach(t, image, sector); again == at {
			if _, err := (Host{}).Claim(d); !errors.Is(err, ErrOther) {
				t.Errorf("another drive at the same place is claimed: %v", err)
			}
		}
	}
}

func opened(t *testing.T, path string) disk.Device {
	im, err := disk.OpenImage(path, 512, false)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { im.Close() })
	return im
}

// TestOwnIsRefused holds that the drives that this machine uses are not opened, by the kernel's own word, even where
// nothing has been told of them.
func TestOwnIsRefused(t *testing.T) {
	all, err := Host{}.Drives()
	if err != nil {
		t.Skipf("what drives this machine has is not to be known: %v", err)
	}
	tried := 0
	for _, d := range all {
		if len(d.Own) == 0 || unix.Access(d.Path(), unix.R_OK) != nil {
			continue
		}
		if _, err := (Host{}).Claim(&d); !errors.Is(err, ErrOwn) {
			t.Errorf("%s: %v", d.Name, err)
		}
		d.Own = nil
		f, err := Host{}.Claim(&d)
		if os.IsPermission(err) {
			continue // not by whoever runs this
		}
		if !errors.Is(err, ErrBusy) {
			t.Errorf("%s is opened though it is in use: %v", d.Name, err)
		}
		if f != nil {
			f.Close()
		}
		tried++
	}
	if tried == 0 {
		t.Skip("this machine has no drive of its own that may be tried")
	}
}
