package main

import (
	"bytes"
	"cmp"
	"context"
	"crypto/ed25519"
	"encoding/base64"
	"encoding/hex"
	"encoding/json"
	"encoding/pem"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"os/user"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"

	"github.com/spf13/cobra"
	"golang.org/x/term"

	"jadetrail/core/carry"
	"jadetrail/core/disk"
	"jadetrail/core/facts"
	"jadetrail/core/pc"
	"jadetrail/core/plan"
	"jadetrail/core/ran"
	"jadetrail/core/rehearse"
	"jadetrail/core/run"
	"jadetrail/core/shelf"
	"jadetrail/core/survey"
	"jadetrail/core/trail"
	"jadetrail/core/words"
)

// places are where runs, backups, records and the trail lie; by default all
// beside the image in IMAGE.trail/, and for a block device where beside says.
type places struct{ image, runs, shelf, trail, who string }

func (p *places) flags(c *cobra.Command, with ...string) {
	for _, f := range with {
		switch f {
		case "runs":
			c.Flags().StringVar(&p.runs, "runs", "", "folder of the journals")
		case "shelf":
			c.Flags().StringVar(
				&p.shelf, "shelf", "",
				"folder of the backups, or IMAGE:N for the volume in partition N of another drive",
			)
		case "trail":
			c.Flags().StringVar(&p.trail, "trail", "", "trail file; records lie in records/ beside it")
		case "who":
			c.Flags().StringVar(&p.who, "who", "", "name of the technician")
		}
	}
}

func (p *places) fill(image string) error {
	if real, err := filepath.EvalSymlinks(image); err == nil { // what lies beside the drive, whatever link leads there
		image = real
	}
	at, nameless, err := beside(image)
	if err != nil {
		return err
	}
	def := func(s *string, parts ...string) error {
		if *s == "" {
			if nameless != nil {
				return nameless
			}
			*s = filepath.Join(append([]string{at + ".trail"}, parts...)...)
		}
		abs, err := filepath.Abs(*s)
		*s = abs
		return err
	}
	if p.who == "" {
		if u, err := user.Current(); err == nil {
			p.who = u.Username
		}
	}
	abs, err := filepath.Abs(at)
	p.image = abs
	return errors.Join(err, def(&p.runs, "runs"), def(&p.shelf, "shelf"), def(&p.trail, "trail.jsonl"))
}

// options opens a drive for work.
func (p *places) options(image, pcPath string, write bool) (run.Options, *disk.Image, error) {
	var o run.Options
	if err := p.fill(image); err != nil {
		return o, nil, err
	}
	ofPC, err := readPC(pcPath)
	if err != nil {
		return o, nil, err
	}
	im, err := disk.OpenImage(image, 0, write)
	if err != nil {
		if !errors.Is(err, disk.ErrInUse) {
			err = errUse{err}
		}
		return o, nil, err
	}
	id, err := identity(image)
	if err != nil {
		im.Close()
		return o, nil, errUse{err}
	}
	sh, err := openShelf(p.shelf)
	if err != nil {
		im.Close()
		return o, nil, err
	}
	o = run.Options{
		Options: rehearse.Options{Sources: facts.Sources{
			Drive: facts.Drive{Image: p.image, Dev: im, Identity: id, PC: ofPC},
			Shop:  facts.Shop{Runs: p.runs, Shelf: sh, Records: p.records(), Trail: trail.File{Path: p.trail}},
			Lead:  true, Random: random,
		},
			Who: p.who, TrailRef: p.trail, Now: now, Report: reporter(),
		},
		Verify: verifier(p.trail),
	}
	if pcPath != "" {
		if o.PCRef, err = filepath.Abs(pcPath); err != nil {
			im.Close()
			return o, nil, err
		}
		o.SavePC = savePC(o.PCRef)
	}
	return o, im, nil
}

// verifier checks the trail in a file; one that is not there yet is whole.
func verifier(path string) func(context.Context) (*trail.Report, error) {
	return func(context.Context) (*trail.Report, error) {
		b, err := os.ReadFile(path)
		if errors.Is(err, fs.ErrNotExist) {
			return &trail.Report{}, nil
		}
		if err != nil {
			return nil, err
		}
		// What a power cut left of a last line is cut off when the next one is added.
		return trail.Verify(bytes.NewReader(b[:bytes.LastIndexByte(b, '\n')+1]), nil)
	}
}

// onVolumeForm is a shelf in a partition of another drive: IMAGE:N.
var onVolumeForm = regexp.MustCompile(`^(.+):([0-9]{1,3})$`)

// openShelf opens a shelf: a folder, or IMAGE:N for one in the volume of partition N on
// another drive.
func openShelf(where string) (*shelf.Shelf, error) {
	f := onVolumeForm.FindStringSubmatch(where)
	st, err := os.Stat(where)
	if f == nil || err == nil && st.IsDir() { // a folder may be named like that
		return &shelf.Shelf{Dir: where}, nil
	}
	if d, err := deviceAt(f[1]); err != nil || d != nil {
		return nil, cmp.Or(err, error(errUse{fmt.Errorf(
			"%s is a block device, beside which nothing is kept that a shelf needs after a power cut; name a folder", f[1],
		)}))
	}
	im, err := disk.OpenImage(f[1], 0, false)
	if err != nil {
		return nil, errUse{err}
	}
	defer im.Close()
	sv, err := survey.Read(im, nil)
	if err != nil {
		return nil, err
	}
	n, _ := strconv.Atoi(f[2])
	p, ok := sv.Layout.Find(n)
	if !ok {
		return nil, errUse{fmt.Errorf("%s has no partition %d to keep backups in", f[1], n)}
	}
	return &shelf.Shelf{Volumes: []*shelf.OnVolume{{Title: where, Image: f[1], Partition: p.UniqueID, Now: now}}}, nil
}

// savePC keeps the facts about a PC, which its stand-in reads.
func savePC(path string) func(*pc.Facts) error {
	return func(f *pc.Facts) error {
		b, err := json.MarshalIndent(f, "", "  ")
		if err != nil {
			return err
		}
		return disk.WriteDurably(path, append(b, '\n'))
	}
}

// reporter prints progress on standard error when that is a terminal.
func reporter() func(carry.Progress) {
	if !term.IsTerminal(int(os.Stderr.Fd())) {
		return nil
	}
	return func(p carry.Progress) {
		fmt.Fprintf(plain{os.Stderr}, "\rstep %d: %s of %s %-40s", p.Step+1, p.Done, p.Total, p.Text)
		if p.Done == p.Total {
			fmt.Fprintln(os.Stderr)
		}
	}
}

func carryOutCmd() *cobra.Command {
	var p places
	var asJSON, rehearse, all bool
	var pcPath, planPath, serial, despite string
	c := &cobra.Command{Use: "carry-out [--json] [--rehearse] [--pc PC.json] [--who NAME] [--serial LAST4] [--compare] [--despite REASON] --plan PLAN.json [--runs DIR] [--shelf DIR] [--trail FILE] IMAGE",
		Short: "Carry a plan out, or rehearse it", Args: oneArg("image"),
		RunE: func(cmd *cobra.Command, args []string) error {
			if planPath == "" {
				return errUse{errors.New("name a plan with --plan")}
			}
			b, err := os.ReadFile(planPath)
			if err != nil {
				return errUse{err}
			}
			pl, err := plan.Parse(b)
			if err != nil {
				return err
			}
			o, im, err := p.options(args[0], pcPath, !rehearse)
			if err != nil {
				return err
			}
			defer im.Close()
			o.Plan, o.Serial, o.Rehearse, o.Compare, o.Despite = pl, serial, rehearse, all, despite
			return carryOut(cmd.Context(), o, asJSON)
		}}
	p.flags(c, "runs", "shelf", "trail", "who")
	c.Flags().BoolVar(&asJSON, "json", false, "for programs")
	c.Flags().StringVar(&despite, "despite", "", "why to go on although the trail does not verify")
	c.Flags().BoolVar(&all, "compare", false, "read every file before and after, and compare")
	c.Flags().BoolVar(&rehearse, "rehearse", false, "on a throw-away copy")
	c.Flags().StringVar(&pcPath, "pc", "", "facts about the PC; what the plan changes in them is written back")
	c.Flags().StringVar(&planPath, "plan", "", "the plan")
	c.Flags().StringVar(&serial, "serial", "", "the last four characters of the drive's serial number")
	return c
}

func carryOut(ctx context.Context, o run.Options, asJSON bool) error {
	if !asJSON {
		o.Before = printSteps
	}
	res, err := run.CarryOut(ctx, o)
	if err != nil {
		return err
	}
	if asJSON {
		return printJSON(res)
	}
	if o.Rehearse {
		fmt.Fprintf(
			out(), "Rehearsed on a copy, %s would be rewritten and %s made zeros. Nothing was written.\n", res.Bytes,
			res.Zeroed,
		)
		return nil
	}
	fmt.Fprintf(out(), "Carried out as run %s. Records kept: %s\n", res.Run, orNone(res.Records))
	for _, x := range res.NotKept() {
		fmt.Fprintln(out(), "Brought over, but not all of it:", x)
	}
	return nil
}

// printSteps prints what the steps lead to, and what is to be known of it.
func printSteps(columns []plan.Column) {
	for i, c := range columns {
		fmt.Fprintf(out(), "%d. %s\n", i+1, c.Told())
		for _, n := range c.Notes {
			fmt.Fprintf(out(), "   %s\n", n.Text)
		}
	}
}

func orNone(s []string) string {
	if len(s) == 0 {
		return "none"
	}
	return strings.Join(s, ", ")
}

func resumeCmd() *cobra.Command {
	var p places
	var undo bool
	var reason string
	c := &cobra.Command{Use: "resume [--undo | --leave REASON] [--runs DIR] [--trail FILE] [--who NAME] IMAGE", Short: "Finish an unfinished run, or take it back", Args: oneArg("image"),
		Long: "Finish an unfinished run, or take it back. Where neither can be done, --leave says why the drive is left as it is: the run has then ended, and the drive can be worked on.",
		RunE: func(cmd *cobra.Command, args []string) error {
			leave := cmd.Flags().Changed("leave")
			if undo && leave {
				return errUse{errors.New("a run is taken back, or left: give one of --undo and --leave")}
			}
			o, im, err := p.options(args[0], "", true)
			if err != nil {
				return err
			}
			defer im.Close()
			open, err := run.Open(o)
			if err != nil {
				return err
			}
			if open != nil && open.Meta != nil { // with the trail and shelf that it began with
				m := open.Meta
				if at := m.Moved(o.Runs, m.Trail); at != "" {
					o.Trail = trail.File{Path: at}
				}
				o.Records = trail.Records{Dir: m.Moved(o.Runs, m.Records)}
				if at := m.Moved(o.Runs, m.PCRef); at != "" {
					o.SavePC = savePC(at)
				}
			}
			if leave {
				res, err := run.Leave(o, reason)
				if err == nil {
					fmt.Fprintf(out(), "The drive is left as it is; run %s has ended.\n", res.Run)
				}
				return err
			}
			res, err := run.Resume(cmd.Context(), o, undo)
			if errors.Is(err, ran.ErrNothing) { // but an end may wait for the trail
				entered, e := run.Enter(o.Runs, o.Trail)
				if len(entered) > 0 {
					fmt.Fprintf(out(), "The end of run %s was entered in the trail.\n", strings.Join(entered, ", "))
					return e
				}
				err = errors.Join(err, e)
			}
			if err != nil {
				return err
			}
			fmt.Fprintln(out(), resumed(res))
			return nil
		}}
	p.flags(c, "runs", "trail", "who")
	c.Flags().BoolVar(&undo, "undo", false, "take the run back instead of finishing it")
	c.Flags().StringVar(
		&reason, "leave", "", "why the drive is left as it is, with the run neither finished nor taken back",
	)
	return c
}

// resumed says what became of a run.
func resumed(r *run.Result) string {
	switch {
	case r.Void:
		return fmt.Sprintf("Run %s had not written anything to the drive; it is at an end.", r.Run)
	case r.Undone:
		return fmt.Sprintf("Run %s is taken back.", r.Run)
	}
	return fmt.Sprintf("Run %s is finished.", r.Run)
}

func backUpCmd() *cobra.Command {
	var p places
	var asJSON bool
	var part int
	var kind string
	var folders []string
	c := &cobra.Command{Use: "back-up [--json] --partition N --kind files|image [--shelf DIR] IMAGE", Short: "Back a partition up to the shelf and verify it", Args: oneArg("image"),
		RunE: func(cmd *cobra.Command, args []string) error {
			if shelf.Kind(kind) != shelf.Image && shelf.Kind(kind) != shelf.Files {
				return errUse{fmt.Errorf("--kind is %q, not files or image", kind)}
			}
			o, im, err := p.options(args[0], "", false)
			if err != nil {
				return err
			}
			defer im.Close()
			m, err := run.BackUp(
				cmd.Context(), o, run.Wanted{Partition: part, Kind: shelf.Kind(kind), Folders: folders},
				shelfReporter(),
			)
			if err != nil {
				if errors.Is(err, run.ErrNoPartition) {
					return fmt.Errorf("%w: %w", errNotHere, err)
				}
				return err
			}
			if asJSON {
				return printJSON(map[string]any{
					"backup": m.ID, "bytes": m.Bytes, "stored_bytes": m.Stored, "files": m.Count,
					"unreadable": m.Unreadable,
				})
			}
			fmt.Fprintf(out(), "Backup %s: %s, %s on the shelf, verified by reading back.\n", m.ID, m.Bytes, m.Stored)
			if m.Unreadable > 0 {
				fmt.Fprintf(out(), "%d files could not be read; their list in the backup says why.\n", m.Unreadable)
			}
			return nil
		}}
	p.flags(c, "shelf", "trail", "who")
	c.Flags().BoolVar(&asJSON, "json", false, "for programs")
	c.Flags().IntVar(&part, "partition", 0, "number of the partition")
	c.Flags().StringVar(&kind, "kind", "image", "files or image")
	c.Flags().StringArrayVar(&folders, "folder", nil, "only this folder of the files; may be given several times")
	return c
}

func shelfReporter() func(shelf.Progress) {
	if !term.IsTerminal(int(os.Stderr.Fd())) {
		return nil
	}
	return func(p shelf.Progress) { fmt.Fprintf(plain{os.Stderr}, "\r%s: %s of %s   ", p.Phase, p.Done, p.Total) }
}

func verifyBackupCmd() *cobra.Command {
	var dir, id string
	c := &cobra.Command{Use: "verify-backup --backup ID [--shelf DIR]", Short: "Read a backup back and compare it",
		Args: func(_ *cobra.Command, args []string) error {
			if len(args) > 0 {
				return errUse{errors.New("name the backup with --backup")}
			}
			return nil
		},
		RunE: func(cmd *cobra.Command, _ []string) error {
			if id == "" {
				return errUse{errors.New("name the backup with --backup")}
			}
			if dir == "" {
				// Beside the images of this folder.
				found, err := filepath.Glob(filepath.Join("*.trail", "shelf", filepath.Base(id)))
				if err != nil || len(found) != 1 {
					return errUse{fmt.Errorf(
						"%d shelves beside the images of this folder hold %s; name the shelf with --shelf",
						len(found), id,
					)}
				}
				dir = filepath.Dir(found[0])
			}
			sh, err := openShelf(dir)
			if err != nil {
				return err
			}
			m, err := sh.Verify(cmd.Context(), id, now(), shelfReporter())
			if err != nil {
				return err
			}
			fmt.Fprintf(out(), "Backup %s is whole: %d pieces, %s.\n", m.ID, len(m.Pieces), m.Bytes)
			return nil
		}}
	c.Flags().StringVar(&id, "backup", "", "name of the backup")
	c.Flags().StringVar(&dir, "shelf", "", "folder of the backups")
	return c
}

func verifyTrailCmd() *cobra.Command {
	var asJSON bool
	var keyPath, headsPath string
	c := &cobra.Command{Use: "verify-trail [--key PUBLIC] [--heads FILE] FILE", Short: "Check that a trail is whole", Args: oneArg("trail file"),
		RunE: func(cmd *cobra.Command, args []string) error {
			key, err := readKey(keyPath)
			if err != nil {
				return errUse{err}
			}
			f, err := os.Open(args[0])
			if err != nil {
				return errUse{err}
			}
			defer f.Close()
			var heads []trail.Head
			if headsPath != "" {
				b, err := os.ReadFile(headsPath)
				if err != nil {
					return errUse{err}
				}
				bad := 0
				if heads, bad = trail.ParseHeads(b); bad > 0 {
					return errUse{fmt.Errorf("%s: %d lines are no heads of a trail", headsPath, bad)}
				}
			}
			r, err := trail.Verify(f, key, heads...)
			if err != nil {
				return errUse{err}
			}
			if asJSON {
				r.Problems = append([]string{}, r.Problems...) // a list also where there is none
				err = printJSON(r)
			} else {
				for _, p := range r.Problems {
					fmt.Fprintln(out(), p)
				}
				if r.Entries == 0 {
					fmt.Fprintln(out(), "It holds no entries: whether some were taken away cannot be said.")
					return errUnsound
				}
				fmt.Fprintf(
					out(), "%d entries, head %s: %s.\n", r.Entries, r.Head,
					words.Either(r.Sound(), "the chain is whole", "the chain is broken"),
				)
			}
			if err == nil && (!r.Sound() || r.Entries == 0) {
				return errUnsound
			}
			return err
		}}
	c.Flags().BoolVar(&asJSON, "json", false, "for programs")
	c.Flags().StringVar(&headsPath, "heads", "", "heads that were kept elsewhere")
	c.Flags().StringVar(&keyPath, "key", "", "file with the shop's public key (Ed25519)")
	return c
}

// readKey reads a public key: 32 bytes as they are, in hex, in base64, or PEM.
func readKey(path string) (ed25519.PublicKey, error) {
	if path == "" {
		return nil, nil
	}
	f, err := os.Open(path)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	b, err := io.ReadAll(io.LimitReader(f, 4096))
	if err != nil {
		return nil, err
	}
	text := strings.TrimSpace(string(b))
	if p, _ := pem.Decode(b); p != nil && len(p.Bytes) >= ed25519.PublicKeySize {
		b = p.Bytes[len(p.Bytes)-ed25519.PublicKeySize:]
	} else if h, err := hex.DecodeString(text); err == nil {
		b = h
	} else if h, err := base64.StdEncoding.DecodeString(text); err == nil {
		b = h
	}
	if len(b) != ed25519.PublicKeySize {
		return nil, fmt.Errorf("%s holds no Ed25519 public key", path)
	}
	return b, nil
}
