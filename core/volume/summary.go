package volume

import (
	"cmp"
	"fmt"
	"maps"
	"path"
	"slices"
	"strings"
	"time"

	"jadetrail/core/disk"
)

// Group is a kind of data, told by how file names end.
type Group string

// The kinds of data.
const (
	Documents Group = "documents"
	Pictures  Group = "pictures"
	Sound     Group = "sound"
	Film      Group = "film"
	Mail      Group = "mail"
	Archives  Group = "archives"
	Programs  Group = "programs"
	Other     Group = "other files"
)

var groups = func() map[string]Group {
	m := map[string]Group{}
	for g, ends := range map[Group]string{
		Documents: "doc docx odt rtf txt pdf xls xlsx ods csv ppt pptx odp md tex pages numbers key epub",
		Pictures:  "jpg jpeg png gif bmp tif tiff heic heif raw cr2 cr3 nef arw dng orf svg webp psd xry",
		Sound:     "mp3 wav flac ogg opus m4a aac wma aif aiff mid",
		Film:      "mp4 mkv avi mov wmv mpg mpeg m4v webm mts 3gp",
		Mail:      "pst ost eml mbox msg dbx",
		Archives:  "zip 7z rar tar gz xz zst bz2 iso vhd vhdx bak",
		Programs:  "exe dll sys msi efi so cab drv ocx mui com bat cmd ps1 jar class bin",
	} {
		for e := range strings.FieldsSeq(ends) {
			m[e] = g
		}
	}
	return m
}()

// GroupOf tells the kind of data by a file's name.
func GroupOf(name string) Group {
	if g, ok := groups[strings.ToLower(strings.TrimPrefix(path.Ext(name), "."))]; ok {
		return g
	}
	return Other
}

// OfPeople tells that a name ends as those of files do that people make or keep.
func OfPeople(name string) bool {
	return slices.Contains([]Group{Documents, Pictures, Sound, Film, Mail}, GroupOf(name))
}

// Sum is files counted together.
type Sum struct {
	Files int        `json:"files"`
	Bytes disk.Bytes `json:"bytes"`
	// Taken is the room that they take on the volume, which may be more than their
	// lengths, or less.
	Taken disk.Bytes `json:"taken"`
}

func (s *Sum) add(f File) {
	s.Files++
	s.Bytes += f.Bytes
	if s.Taken += f.Allocated; f.Allocated == 0 { // kept in its record
		s.Taken += f.Bytes
	}
}

// Summary is what a volume holds, in short.
type Summary struct {
	Sum
	Folders    int           `json:"folders"`
	Links      int           `json:"links"`
	Groups     map[Group]Sum `json:"groups"`
	Personal   Sum           `json:"personal"` // files of people, outside a system's own folders
	Newest     File          `json:"newest"`
	Unreadable int           `json:"unreadable"`
	Streams    int           `json:"streams"`
	// System tells that it looks like an operating system or a copy of one.
	System bool `json:"system"`
	// Inside is what each folder holds with all below it; the root is "".
	Inside map[string]Sum `json:"-"`
}

// Place is a folder and the room that all below it takes.
type Place struct {
	Path  string
	Taken disk.Bytes
}

// People lists the folders of people's files, the largest first: those at the root that are
// not a system's, those below each person's own where the volume holds a system, and what is
// directly in them. Empty ones are left out.
func (s *Summary) People() []Place {
	var out []Place
	for path, sum := range s.Inside {
		parts := strings.Split(strings.ToLower(path), "/")
		theirs := len(parts) <= 2 && path != "" && !systemFolders[parts[0]]
		if s.System && parts[0] == "users" {
			theirs = (len(parts) == 3 || len(parts) == 4) && parts[2] != "appdata"
		}
		if theirs && sum.Files > 0 {
			out = append(out, Place{path, max(sum.Taken, sum.Bytes)})
		}
	}
	slices.SortFunc(out, func(a, b Place) int {
		return cmp.Or(
			cmp.Compare(b.Taken, a.Taken), cmp.Compare(a.Path, b.Path),
		)
	})
	return out
}

// systemFolders at the root hold no files of people.
var systemFolders = map[string]bool{
	"windows": true, "program files": true, "program files (x86)": true, "programdata": true, "$recycle.bin": true, "system volume information": true,
	"recovery": true, "perflogs": true, "boot": true, "efi": true, "bin": true, "sbin": true, "usr": true, "lib": true, "lib64": true, "etc": true,
	"var": true, "proc": true, "sys": true, "dev": true, "run": true, "lost+found": true, "drivers": true,
}

// Summarise looks at every file of a volume once. Its contents are not read.
func Summarise(v Volume) (*Summary, error) {
	s := &Summary{Groups: map[Group]Sum{}, Inside: map[string]Sum{"": {}}}
	windows, unix := false, false
	err := v.Walk(func(f File) error {
		first, _, below := strings.Cut(f.Path, "/")
		first = strings.ToLower(first)
		switch {
		case f.Stream != "":
			s.Streams++
			return nil
		case f.Kind == Folder:
			s.Folders++
			if _, known := s.Inside[f.Path]; !known { // nothing may lie in it
				s.Inside[f.Path] = Sum{}
			}
			p := strings.ToLower(f.Path)
			windows = windows || p == "windows/system32"
			unix = unix || p == "etc" || p == "usr/bin"
			return nil
		case f.Kind == Link:
			s.Links++
			return nil
		}
		if f.Unreadable != "" {
			s.Unreadable++
		}
		s.Sum.add(f)
		name := path.Base(f.Path)
		g := GroupOf(name)
		add(s.Groups, g, f)
		if systemish := below && systemFolders[first]; !systemish && g != Programs && !strings.HasSuffix(strings.ToLower(name), ".sys") {
			s.Personal.add(f)
		}
		if f.Modified.After(s.Newest.Modified) && f.Modified.Year() < 2100 {
			s.Newest = File{Path: f.Path, Modified: f.Modified, Bytes: f.Bytes}
		}
		for dir := f.Path; dir != ""; {
			i := strings.LastIndexByte(dir, '/')
			dir = dir[:max(i, 0)]
			add(s.Inside, dir, f)
		}
		return nil
	})
	s.System = windows || unix && s.Inside["usr"].Files > 0
	return s, err
}

func add[K comparable](m map[K]Sum, k K, f File) {
	x := m[k]
	x.add(f)
	m[k] = x
}

// Largest returns the folders right below dir, the largest first.
func (s *Summary) Largest(dir string) []string {
	var out []string
	for p := range s.Inside {
		if p != "" && p != dir && parent(p) == dir {
			out = append(out, p)
		}
	}
	slices.SortFunc(out, func(a, b string) int {
		if c := cmp.Compare(s.Inside[b].Taken, s.Inside[a].Taken); c != 0 {
			return c
		}
		return strings.Compare(a, b)
	})
	return out
}

func parent(p string) string { return p[:max(strings.LastIndexByte(p, '/'), 0)] }

// Words says in a few sentences what the volume holds. now is today.
func (s *Summary) Words(now time.Time) string {
	if s.Files == 0 {
		if s.Folders > 0 {
			return fmt.Sprintf("Empty but for %s.", plural(s.Folders, "folder"))
		}
		return "Empty."
	}
	var t []string
	t = append(t, fmt.Sprintf("%s in %s; they take %s.", plural(s.Files, "file"), plural(s.Folders, "folder"), s.Taken))
	kinds := slices.SortedFunc(maps.Keys(s.Groups), func(a, b Group) int {
		if c := cmp.Compare(s.Groups[b].Taken, s.Groups[a].Taken); c != 0 {
			return c
		}
		return strings.Compare(string(a), string(b))
	})
	var named []string
	for _, g := range kinds[:min(len(kinds), 3)] {
		named = append(named, fmt.Sprintf("%s (%s)", g, s.Groups[g].Taken))
	}
	t = append(t, "Mostly "+strings.Join(named, ", ")+".")
	if s.System {
		t = append(t, "It looks like an operating system or a copy of one.")
	}
	if s.Personal.Files > 0 {
		t = append(t, fmt.Sprintf("%s may be people's own, %s.", plural(s.Personal.Files, "file"), s.Personal.Taken))
	} else {
		t = append(t, "No files of people are among them.")
	}
	if !s.Newest.Modified.IsZero() {
		age := "today"
		if d := int(now.Sub(s.Newest.Modified).Hours() / 24); d > 0 {
			age = plural(d, "day") + " ago"
		}
		t = append(t, fmt.Sprintf(
			"The newest change, %s (%s), is to %s.", s.Newest.Modified.UTC().Format("2 January 2006"), age,
			s.Newest.Path,
		))
	}
	if s.Unreadable > 0 {
		t = append(t, fmt.Sprintf("%s cannot be read.", plural(s.Unreadable, "file")))
	}
	return strings.Join(t, " ")
}

func plural(n int, thing string) string {
	if n != 1 {
		thing += "s"
	}
	return disk.Grouped(int64(n)) + " " + thing
}

// Find returns the files whose names contain the text, whatever its case, at most
// limit of them.
func Find(v Volume, text string, limit int) ([]File, error) {
	text = strings.ToLower(text)
	var out []File
	err := v.Walk(func(f File) error {
		if len(out) < limit && f.Stream == "" && strings.Contains(strings.ToLower(path.Base(f.Path)), text) {
			out = append(out, f)
		}
		return nil
	})
	slices.SortFunc(out, func(a, b File) int { return strings.Compare(a.Path, b.Path) })
	return out, err
}

// Shown is a name as it can be shown, whatever it holds: control characters, those
// that turn the direction of text and what is no text are written as their numbers.
func Shown(name string) string {
	clean := true
	for _, r := range name {
		if unsafe(r) {
			clean = false
		}
	}
	if clean {
		return name
	}
	var b strings.Builder
	for i, r := range name {
		switch {
		case r == '\uFFFD' && !strings.HasPrefix(name[i:], "\uFFFD"):
			fmt.Fprintf(&b, "‹%02X›", name[i])
		case unsafe(r):
			fmt.Fprintf(&b, "‹%02X›", r)
		default:
			b.WriteRune(r)
		}
	}
	return b.String()
}

func unsafe(r rune) bool {
	return r < 0x20 || r >= 0x7f && r < 0xa0 || r == '\uFFFD' || r >= 0x200b && r <= 0x200f || r >= 0x2028 && r <= 0x202e || r >= 0x2060 && r <= 0x206f || r == 0xfeff
}
