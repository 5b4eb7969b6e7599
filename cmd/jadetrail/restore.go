package main

import (
	"errors"
	"fmt"
	"os"
	"strings"

	"github.com/spf13/cobra"

	"jadetrail/core/disk"
	"jadetrail/core/run"
	"jadetrail/core/shelf"
)

func restoreCmd() *cobra.Command {
	var p places
	var asJSON bool
	var id, to, path string
	var part int
	var only []string
	var release, waiver string
	c := &cobra.Command{Use: "restore --backup ID [--shelf DIR] (--partition N [--path DIR] | --to FOLDER) [--runs DIR] [--trail FILE] IMAGE",
		Short: "Put files from a backup into a folder, or into a volume", Args: oneArg("image"),
		RunE: func(cmd *cobra.Command, args []string) error {
			if id == "" || (to == "") == (part == 0) {
				return errUse{errors.New("name the backup with --backup, and one of --partition and --to")}
			}
			o, im, err := p.options(args[0], "", to == "")
			if err != nil {
				return err
			}
			defer im.Close()
			if to != "" {
				out, err := run.RestoreToFolder(cmd.Context(), o, id, only, to, shelfReporter())
				if err != nil {
					return err
				}
				return printRestored(asJSON, out, out.Files, out.Folders, out.Compared, out.Bytes, out.NotThere, nil)
			}
			if m, err := o.Shelf.Load(id); err == nil && m.Kind == shelf.Image && path == "" && len(only) == 0 {
				res, err := run.RestoreImage(cmd.Context(), o, id, part, release, waiver)
				if err != nil {
					return err
				}
				if asJSON {
					return printJSON(res)
				}
				fmt.Fprintf(
					out(), "%s restored from its image and read back. Record kept of what was there: %s\n",
					m.From.Span.Title(), strings.Join(res.Records, ", "),
				)
				return nil
			}
			out, err := run.RestoreInto(cmd.Context(), o, id, only, part, path)
			if err != nil {
				return err
			}
			return printRestored(asJSON, out, out.Files, out.Folders, out.Compared, out.Bytes, out.Lost, out.Notes)
		}}
	p.flags(c, "runs", "shelf", "trail", "who")
	c.Flags().BoolVar(&asJSON, "json", false, "for programs")
	c.Flags().StringVar(&id, "backup", "", "name of the backup")
	c.Flags().StringVar(&to, "to", "", "folder that the files go to")
	c.Flags().IntVar(&part, "partition", 0, "number of the partition that the files go to")
	c.Flags().StringVar(&path, "path", "", "folder in that volume, made when it does not exist")
	c.Flags().StringVar(
		&release, "release", "", "why the protection of what is there is lifted, when an image takes its place",
	)
	c.Flags().StringVar(&waiver, "waiver", "", "why what is there needs no backup, when an image takes its place")
	c.Flags().StringArrayVar(&only, "only", nil, "only this file or folder of the backup; may be given several times")
	return c
}

func printRestored(asJSON bool, res any, files, folders, compared int, n disk.Bytes, lost, notes []string) error {
	if asJSON {
		return errors.Join(printJSON(res), incomplete(lost))
	}
	fmt.Fprintf(out(), "%d files in %d folders restored, %s; %d read back and the same.\n", files, folders, n, compared)
	for _, x := range lost {
		fmt.Fprintln(plain{os.Stderr}, "not restored:", x)
	}
	for _, x := range notes {
		fmt.Fprintln(plain{os.Stderr}, "restored, but not all of it:", x)
	}
	return incomplete(lost)
}

// incomplete is the answer of a restore that could not restore all that was asked for, which is
// already named.
func incomplete(lost []string) error {
	if len(lost) > 0 {
		return errUnsound
	}
	return nil
}
