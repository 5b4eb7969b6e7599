package main

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"text/tabwriter"

	"github.com/spf13/cobra"
	"golang.org/x/term"

	"jadetrail/core/disk"
	"jadetrail/core/facts"
	"jadetrail/core/plan"
	"jadetrail/core/run"
	"jadetrail/core/seek"
	"jadetrail/core/survey"
	"jadetrail/core/trail"
)

func searchCmd() *cobra.Command {
	var p places
	var asJSON bool
	var until string
	c := &cobra.Command{Use: "search [--json] [--until likely|whole] [--trail FILE] IMAGE", Short: "Search a drive for lost partitions", Args: oneArg("image"),
		RunE: func(cmd *cobra.Command, args []string) error {
			if until != "likely" && until != "whole" {
				return errUse{fmt.Errorf("--until is %q, not likely or whole", until)}
			}
			im, sv, err := look(args[0], "")
			if err != nil {
				return err
			}
			defer im.Close()
			if err := p.fill(args[0]); err != nil {
				return err
			}
			id, err := identity(args[0])
			if err != nil {
				return errUse{err}
			}
			s, err := searched(cmd.Context(), im, sv, p.records(), id.Serial, until == "whole", func([]seek.Find) bool { return false })
			if err != nil {
				return err
			}
			finds := s.Finds()
			if asJSON {
				return printJSON(map[string]any{"finds": finds})
			}
			printFinds(finds)
			return nil
		}}
	p.flags(c, "trail")
	c.Flags().BoolVar(&asJSON, "json", false, "for programs")
	c.Flags().StringVar(&until, "until", "whole", "likely places only, or the whole drive")
	return c
}

// records are those that lie beside the trail.
func (p *places) records() trail.Records {
	return trail.Records{Dir: filepath.Join(filepath.Dir(p.trail), "records")}
}

// searched searches a drive where partitions are likeliest, and then, if that is asked for and
// enough says no, through all of it.
func searched(ctx context.Context, im *disk.Image, sv *survey.Survey, records trail.Records, serial string, whole bool, enough func([]seek.Find) bool) (*seek.Search, error) {
	of, err := records.Of(trail.Drive{DiskID: sv.Layout.DiskID, Serial: serial})
	if err != nil {
		return nil, err
	}
	s := seek.New(im, sv, facts.Hints(of))
	if term.IsTerminal(int(os.Stderr.Fd())) {
		s.Report = func(p seek.Progress) {
			fmt.Fprintf(os.Stderr, "\r%s of %s read, %d structures seen  ", p.Done, p.Total, p.Finds)
		}
	}
	if err := s.Likely(ctx); err != nil {
		return nil, err
	}
	if !whole || enough(s.Finds()) {
		return s, nil
	}
	reached, err := s.Whole(ctx, 0)
	if err != nil {
		return nil, err
	}
	if reached < im.Size() {
		return nil, fmt.Errorf(
			"the search was stopped at byte %s of %s; nothing was written", disk.Grouped(int64(reached)),
			disk.Grouped(int64(im.Size())),
		)
	}
	return s, nil
}

func printFinds(finds []seek.Find) {
	if len(finds) == 0 {
		fmt.Fprintln(out(), "No lost partition was found.")
		return
	}
	w := tabwriter.NewWriter(out(), 0, 0, 2, ' ', 0)
	fmt.Fprintln(w, "begins at\ttold at byte\tkind\tlabel\tsize\tconfidence\tlies over it\twhy")
	for _, f := range finds {
		word := string(f.Confidence)
		if f.Ghost {
			word = "ghost"
		}
		var over []string
		for _, o := range f.Over {
			over = append(over, fmt.Sprintf("%s (%d): %s", o.Title, o.Number, o.Bytes))
		}
		fmt.Fprintf(
			w, "%d\t%d\t%s\t%s\t%s\t%s\t%s\t%s\n", f.Start, f.At, f.Kind, f.Label, f.Bytes, word,
			strings.Join(over, ", "), strings.Join(f.Reasons, " "),
		)
	}
	w.Flush()
}

// findAt searches for a lost partition that begins at a sector. Where there are several, told says at
// which byte of the drive that lies which tells of the one that is meant; it is negative for not said.
func findAt(ctx context.Context, o *run.Options, im *disk.Image, start disk.LBA, told disk.Bytes) (plan.Step, error) {
	step := plan.Step{Body: plan.BringingBack{Find: start}}
	sv, err := survey.Read(im, o.PC)
	if err != nil {
		return step, err
	}
	at := func(finds []seek.Find, ghosts bool) []seek.Find {
		return slices.DeleteFunc(slices.Clone(finds), func(f seek.Find) bool {
			return f.Start != start || told >= 0 && f.At != told || f.Ghost && !(ghosts && f.Inferred)
		})
	}
	s, err := searched(ctx, im, sv, o.Records, o.Identity.Serial, true, func(finds []seek.Find) bool { return len(at(finds, false)) > 0 })
	if err != nil {
		return step, err
	}
	finds := s.Finds()
	o.Seen = seen(s)
	found := at(finds, false)
	if len(found) == 0 {
		found = at(finds, true)
	}
	switch {
	case len(found) == 0:
		return step, fmt.Errorf("%w that begins at sector %d; nothing was written", errNoFind, start)
	case len(found) > 1:
		var each []string
		for _, f := range found {
			each = append(each, fmt.Sprintf("%s, %s, %s (--told %d)", f.Title(), f.Bytes, f.Confidence, f.At))
		}
		return step, fmt.Errorf(
			"%w: %d lost partitions begin at sector %d; say which with --told: %s. Nothing was written", errWhichFind,
			len(found), start, strings.Join(each, "; "),
		)
	}
	return plan.Step{Body: plan.BringingBack{Find: start, Told: found[0].At}}, nil
}

// seen gives a plan what a search has seen, so that it judges finds as the search did.
func seen(s *seek.Search) func() ([]disk.Bytes, error) {
	told := s.Told()
	return func() ([]disk.Bytes, error) { return told, nil }
}

// errWhichFind tells that it is not clear which find is meant.
var errWhichFind = errors.New("that is not one find alone")

var errNoFind = errors.New("the search found no lost partition")
