package main

import (
	"cmp"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"os"
	"slices"
	"strings"
	"text/tabwriter"
	"time"

	"github.com/spf13/cobra"

	"jadetrail/core/disk"
	"jadetrail/core/facts"
	"jadetrail/core/finding"
	"jadetrail/core/layout"
	"jadetrail/core/pc"
	"jadetrail/core/rehearse"
	"jadetrail/core/run"
	"jadetrail/core/survey"
	"jadetrail/core/trail"
	"jadetrail/core/volume"
	"jadetrail/core/words"
)

// errNotHere is the answer that something named does not exist on the drive.
var errNotHere = errors.New("not on this drive")

func readPC(path string) (*pc.Facts, error) {
	if path == "" {
		return nil, nil
	}
	b, err := os.ReadFile(path)
	if err != nil {
		return nil, errUse{err}
	}
	f, err := pc.Parse(b)
	if err != nil {
		return nil, errUse{err}
	}
	return f, nil
}

// look opens an image for reading and surveys it. An unfinished run is told first, whoever knows of
// it: the drive, or the folder and the trail beside it.
func look(path, pcPath string) (*disk.Image, *survey.Survey, error) {
	facts, err := readPC(pcPath)
	if err != nil {
		return nil, nil, err
	}
	im, err := disk.OpenImage(path, 0, false)
	if err != nil {
		return nil, nil, errUse{err}
	}
	sv, err := survey.Read(im, facts)
	if err != nil {
		im.Close()
		return nil, nil, errUse{err}
	}
	if err := tellOpen(path, im, sv); err != nil {
		im.Close()
		return nil, nil, errUse{err}
	}
	return im, sv, nil
}

// tellOpen adds the finding that a run on the drive is open, where its sign has not told that.
func tellOpen(path string, im *disk.Image, sv *survey.Survey) error {
	var p places
	err := p.fill(path)
	if errors.Is(err, errNameless) { // nothing is kept of it; its sign tells all that is known
		return nil
	}
	if err != nil {
		return err
	}
	id, err := identity(path)
	if err != nil {
		return err
	}
	open, err := run.Open(run.Options{Options: rehearse.Options{Sources: facts.Sources{
		Drive: facts.Drive{Image: p.image, Dev: im, Identity: id},
		Shop:  facts.Shop{Runs: p.runs, Trail: trail.File{Path: p.trail}},
	}}})
	if err != nil || open == nil {
		return err
	}
	if l := sv.Layout; len(l.Findings) == 0 || l.Findings[0].Code != survey.UnfinishedRun {
		l.Findings = append(finding.List{open.Finding()}, l.Findings...)
	} else {
		l.Findings[0] = open.Finding()
	}
	return nil
}

func inspectCmd() *cobra.Command {
	var asJSON bool
	var pcPath string
	c := &cobra.Command{Use: "inspect [--json] [--pc PC.json] IMAGE", Short: "Show everything that is on a drive", Args: oneArg("image"),
		RunE: func(cmd *cobra.Command, args []string) error {
			im, sv, err := look(args[0], pcPath)
			if err != nil {
				return err
			}
			defer im.Close()
			if asJSON {
				return printJSON(sv.Layout)
			}
			if f := sv.Layout.Findings; len(f) > 0 && f[0].Code == survey.UnfinishedRun {
				printFindings(f[:1])
			}
			id, err := identity(args[0])
			if err != nil {
				return errUse{err}
			}
			printLayout(sv.Layout, id)
			return nil
		}}
	c.Flags().BoolVar(&asJSON, "json", false, "for programs")
	c.Flags().StringVar(&pcPath, "pc", "", "facts about the PC")
	return c
}

// driveWords are what a drive is called by its scheme.
var driveWords = map[string]string{"gpt": "GPT drive", "mbr": "MBR drive", "none": "Drive without a partition table,"}

func printLayout(l *layout.Layout, id survey.Identity) {
	if id.Model != "" || id.Serial != "" {
		fmt.Fprintf(
			out(), "%s, serial number %s\n", cmp.Or(id.Model, "model not known"), cmp.Or(id.Serial, "not known"),
		)
	}
	fmt.Fprintf(
		out(), "%s of %s (%s, %s), sectors of %d bytes\n", driveWords[l.Scheme], l.Size, l.Size.Decimal(),
		l.Size.Exact(), l.Sector,
	)
	w := tabwriter.NewWriter(out(), 0, 0, 2, ' ', 0)
	fmt.Fprintln(w, "no\trole\tvolume\tsize\tfree\tsectors\tname")
	for _, s := range l.Spans {
		if s.Kind == layout.Gap {
			fmt.Fprintf(w, "\tgap\t%s\t%s\t\t%d-%d\t\n", s.Why, s.Bytes, s.Start, s.End)
			continue
		}
		kind, free := "none", ""
		if v := s.Volume; v != nil {
			if kind = string(v.Kind); v.Detail != "" {
				kind += ", " + v.Detail
			}
			if v.Label != "" {
				kind += " " + v.Label
			}
			if s.Letter != "" {
				kind = s.Letter + ": " + kind
			}
			if v.ClusterBytes > 0 {
				free = v.Free().String()
			}
			if v.Hibernated {
				kind += ", hibernated"
			} else if !v.Clean && v.ClusterBytes > 0 {
				kind += ", not clean"
			}
		}
		role := string(s.Role)
		if s.Protected {
			role += ", protected"
		}
		fmt.Fprintf(w, "%d\t%s\t%s\t%s\t%s\t%d-%d\t%s\n", s.Number, role, kind, s.Bytes, free, s.Start, s.End, s.Name)
	}
	w.Flush()
	printFindings(l.Findings)
}

func printFindings(l finding.List) {
	for _, f := range l {
		if f.Partition != 0 {
			fmt.Fprintf(out(), "%s, partition %d: %s\n", f.Severity, f.Partition, f.Text)
			continue
		}
		fmt.Fprintf(out(), "%s: %s\n", f.Severity, f.Text)
	}
}

func filesCmd() *cobra.Command {
	var asJSON, hash bool
	var part int
	var dir string
	c := &cobra.Command{Use: "files [--json] [--hash] --partition N [--path DIR] IMAGE", Short: "List the files of a volume", Args: oneArg("image"),
		RunE: func(cmd *cobra.Command, args []string) error {
			im, sv, err := look(args[0], "")
			if err != nil {
				return err
			}
			defer im.Close()
			v, err := volumeOf(sv, part)
			if err != nil {
				return err
			}
			list, err := listed(v, dir, hash)
			if err != nil {
				return err
			}
			if asJSON {
				return printJSON(map[string]any{"files": list})
			}
			w := tabwriter.NewWriter(out(), 0, 0, 2, ' ', 0)
			for _, f := range list {
				path := f.Path
				if f.Stream != "" { // as NTFS names it
					path += ":" + f.Stream
				}
				fmt.Fprintf(w, "%s\t%d\t%s\t%s\t%s\n", f.Kind, f.Bytes, f.Modified, f.SHA256, path)
			}
			return w.Flush()
		}}
	c.Flags().BoolVar(&asJSON, "json", false, "for programs")
	c.Flags().BoolVar(&hash, "hash", false, "with all subfolders and the SHA-256 of every file")
	c.Flags().IntVar(&part, "partition", 0, "number of the partition")
	c.Flags().StringVar(&dir, "path", "", "folder to begin with")
	return c
}

func volumeOf(sv *survey.Survey, part int) (volume.Volume, error) {
	p, ok := sv.Layout.Find(part)
	if !ok {
		return nil, fmt.Errorf("%w: partition %d", errNotHere, part)
	}
	v := sv.Volume(part)
	if v == nil {
		kind := "no file system"
		if p.Volume != nil {
			kind = string(p.Volume.Kind)
		}
		return nil, fmt.Errorf("partition %d holds %s, which cannot be looked into: %w", part, kind, errNotHere)
	}
	return v, nil
}

// listedFile is a file as `files` prints it.
type listedFile struct {
	Path       string          `json:"path"`
	Kind       volume.FileKind `json:"kind"`
	Bytes      disk.Bytes      `json:"bytes"`
	Modified   string          `json:"modified"`
	SHA256     string          `json:"sha256,omitempty"`
	Stream     string          `json:"stream,omitempty"`
	Unreadable string          `json:"unreadable,omitempty"`
}

func listed(v volume.Volume, dir string, hash bool) ([]listedFile, error) {
	dir = strings.Trim(strings.ReplaceAll(dir, `\`, "/"), "/")
	var all []volume.File
	var err error
	if hash {
		all, err = v.Files()
	} else {
		all, err = level(v, dir)
	}
	if err != nil {
		return nil, err
	}
	out := []listedFile{}
	found := dir == ""
	for _, f := range all {
		rest := f.Path
		if dir != "" {
			if len(rest) >= len(dir) && strings.EqualFold(rest[:len(dir)], dir) && (len(rest) == len(dir) || rest[len(dir)] == '/') {
				found = found || f.Kind == volume.Folder
				rest = strings.TrimPrefix(rest[len(dir):], "/")
			} else {
				continue
			}
		}
		if rest == "" || !hash && strings.Contains(rest, "/") {
			continue
		}
		l := listedFile{
			Path: f.Path, Kind: f.Kind, Bytes: f.Bytes, Modified: f.Modified.Format(time.RFC3339), Stream: f.Stream,
			Unreadable: f.Unreadable,
		}
		if hash && f.Kind == volume.Plain && f.Unreadable == "" {
			if l.SHA256, err = hashFile(v, f); err != nil {
				return nil, err
			}
		}
		out = append(out, l)
	}
	if !found {
		return nil, fmt.Errorf("%w: %s", volume.ErrNotFound, dir)
	}
	return out, nil
}

// level lists one folder, which is all that is read.
func level(v volume.Volume, dir string) (all []volume.File, err error) {
	for from := ""; ; {
		page, next, err := v.List(dir, from, 1000)
		if err != nil {
			return nil, err
		}
		all = append(all, page...)
		if from = next; next == "" {
			break
		}
	}
	if dir != "" {
		all = append(all, volume.File{Path: dir, Kind: volume.Folder})
	}
	slices.SortStableFunc(all, func(a, b volume.File) int { return strings.Compare(a.Path, b.Path) })
	return all, nil
}

func hashFile(v volume.Volume, f volume.File) (string, error) {
	r, err := v.Open(f)
	if err != nil {
		return "", err
	}
	h := sha256.New()
	if _, err := io.Copy(h, io.NewSectionReader(r, 0, int64(f.Bytes))); err != nil {
		return "", err
	}
	return hex.EncodeToString(h.Sum(nil)), nil
}

// notLookedInto names what a check says nothing of.
func notLookedInto(list []layout.Span) string {
	if len(list) == 0 {
		return ""
	}
	var names []string
	for _, p := range list {
		names = append(names, fmt.Sprintf("partition %d (%s)", p.Number, p.Volume.Kind))
	}
	return " Not looked into: " + strings.Join(names, ", ") + "."
}

func checkCmd() *cobra.Command {
	var asJSON bool
	c := &cobra.Command{Use: "check [--json] IMAGE", Short: "Check the table and every volume", Args: oneArg("image"),
		RunE: func(cmd *cobra.Command, args []string) error {
			im, sv, err := look(args[0], "")
			if err != nil {
				return err
			}
			defer im.Close()
			found := sv.Check()
			sound := found.FirstError() == nil
			if unread := sv.NotLookedInto(); asJSON {
				numbers := []int{}
				for _, p := range unread {
					numbers = append(numbers, p.Number)
				}
				err = printJSON(map[string]any{"sound": sound, "findings": found, "not_looked_into": numbers})
			} else {
				printFindings(found)
				fmt.Fprintln(
					out(),
					words.Either(sound, "The drive is sound.", "The drive is not sound.")+notLookedInto(unread),
				)
			}
			if err == nil && !sound {
				return errUnsound
			}
			return err
		}}
	c.Flags().BoolVar(&asJSON, "json", false, "for programs")
	return c
}
