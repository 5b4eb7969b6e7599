package block

import (
	"bytes"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
)

// inUse is what the machine itself uses, by the kernel's names of devices: what is mounted, swapped on, held by a set
// or an encryption, or stands behind a loop device. Where that cannot be read nothing is told: then nobody may say
// that a drive is free.
func (h Host) inUse() (map[string][]string, error) {
	out := map[string][]string{}
	add := func(name, format string, args ...any) {
		if text := fmt.Sprintf(format, args...); name != "" && !slices.Contains(out[name], text) {
			out[name] = append(out[name], text)
		}
	}
	for _, look := range []func(func(string, string, ...any)) error{h.mounted, h.swapped, h.held, h.joined} {
		if err := look(add); err != nil {
			return nil, fmt.Errorf("what this machine itself uses cannot be read, so no drive is told to be free: %w", err)
		}
	}
	return out, nil
}

// mounted tells what is mounted (proc_pid_mountinfo(5)): by the number of its device, and by the path it is mounted
// from, since a file system on several drives has a number of its own.
func (h Host) mounted(add func(string, string, ...any)) error {
	b, err := os.ReadFile(h.path("proc", "self", "mountinfo"))
	if err != nil {
		return err
	}
	names, err := h.byNumber()
	if err != nil {
		return err
	}
	for line := range bytes.Lines(b) {
		before, after, ok := strings.Cut(string(line), " - ")
		f, g := strings.Fields(before), strings.Fields(after)
		if !ok || len(f) < 5 || len(g) < 2 {
			return fmt.Errorf("a line of mountinfo cannot be understood: %q", line)
		}
		for _, name := range []string{names[f[2]], h.nameOf(unescaped(g[1]))} {
			add(name, "%s is mounted at %s", name, unescaped(f[4]))
		}
	}
	return nil
}

// swapped tells what is swapped on.
func (h Host) swapped(add func(string, string, ...any)) error {
	b, err := os.ReadFile(h.path("proc", "swaps"))
	if missing(err) { // a kernel that cannot swap
		return nil
	}
	if err != nil {
		return err
	}
	for line := range bytes.Lines(b) {
		if f := strings.Fields(string(line)); len(f) > 1 && f[1] == "partition" {
			name := h.nameOf(unescaped(f[0]))
			add(name, "%s is swapped on", name)
		}
	}
	return nil
}

// held tells what is held by a device that was made of it, and what stands behind a loop device.
func (h Host) held(add func(string, string, ...any)) error {
	all, err := os.ReadDir(h.path("sys", "class", "block"))
	if err != nil {
		return err
	}
	for _, e := range all {
		name := e.Name()
		holders, err := os.ReadDir(h.path("sys", "class", "block", name, "holders"))
		if err != nil && !missing(err) {
			return err
		}
		for _, by := range holders {
			add(name, "%s is held by %s", name, h.titleOf(by.Name()))
		}
		if behind := h.fact("sys", "class", "block", name, "loop", "backing_file"); behind != "" {
			under := h.nameOf(behind)
			add(under, "%s stands behind %s", under, name)
		}
	}
	return nil
}

// joined tells what belongs to a file system that has several drives.
func (h Host) joined(add func(string, string, ...any)) error {
	all, err := filepath.Glob(h.path("sys", "fs", "btrfs", "*", "devices", "*"))
	for _, at := range all {
		name := filepath.Base(at)
		add(name, "%s is part of a file system in use", name)
	}
	return err
}

// titleOf is a device with what it is called by whoever made it.
func (h Host) titleOf(name string) string {
	if made := h.fact("sys", "class", "block", name, "dm", "name"); made != "" {
		return fmt.Sprintf("%s (%s)", name, made)
	}
	return name
}

// nameOf is the kernel's name of the device at a path, "" where it is none.
func (h Host) nameOf(path string) string {
	if !filepath.IsAbs(path) {
		return ""
	}
	name, err := h.nameAt(path)
	if err != nil {
		return ""
	}
	return name
}

// byNumber are the kernel's names of all block devices by their numbers.
func (h Host) byNumber() (map[string]string, error) {
	all, err := os.ReadDir(h.path("sys", "class", "block"))
	out := map[string]string{}
	for _, e := range all {
		if number := h.fact("sys", "class", "block", e.Name(), "dev"); number != "" {
			out[number] = e.Name()
		}
	}
	return out, err
}

// unescaped is a path of procfs, in which blanks and such stand as \ooo.
func unescaped(path string) string {
	var out strings.Builder
	for i := 0; i < len(path); i++ {
		if path[i] == '\\' && i+3 < len(path) {
			if n, err := strconv.ParseUint(path[i+1:i+4], 8, 8); err == nil {
				out.WriteByte(byte(n))
				i += 3
				continue
			}
		}
		out.WriteByte(path[i])
	}
	return out.String()
}
