package main

import (
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"os"
	"os/user"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"jadetrail/app/drives"
	"jadetrail/core/block"
	"jadetrail/core/disk"
	"jadetrail/core/survey"
)

// driveList are the drives of a machine, as JSON.
type driveList struct {
	Version int           `json:"version"`
	Drives  []block.Drive `json:"drives"`
}

// drivesCmd lists the drives of this machine.
func drivesCmd() *cobra.Command {
	var asJSON bool
	c := &cobra.Command{
		Use: "drives [--json]", Short: "List the drives of this machine, and which of them are its own",
		Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			all, err := block.Host{}.Drives()
			if err != nil {
				return err
			}
			if asJSON {
				return json.NewEncoder(os.Stdout).Encode(driveList{1, append([]block.Drive{}, all...)})
			}
			for _, d := range all {
				fmt.Fprintln(plain{os.Stdout}, driveLine(d))
			}
			if len(all) == 0 {
				fmt.Println("This machine has no drive with a medium.")
			}
			return nil
		},
	}
	c.Flags().BoolVar(&asJSON, "json", false, "as JSON")
	c.AddCommand(drivesServeCmd())
	return c
}

// drivesServeCmd starts the helper that opens drives for an account that has no rights to them.
func drivesServeCmd() *cobra.Command {
	var socket, rules, account string
	c := &cobra.Command{
		Use:   "serve --socket PATH --rules RULES.json --account NAME",
		Short: "Open drives for an account that has no rights to them, as rules allow", Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			b, err := disk.ReadSmall(rules, maxRules)
			if err != nil {
				return errUse{err}
			}
			r, err := drives.ParseRules(b)
			if err != nil {
				return errUse{fmt.Errorf("%s: %w", rules, err)}
			}
			id, err := accountOf(account)
			if err != nil {
				return errUse{err}
			}
			l, err := drives.Listen(socket, id)
			if err != nil {
				return err
			}
			h := &drives.Helper{Rules: r, User: id, Log: slog.New(slog.NewTextHandler(os.Stderr, nil))}
			fmt.Println("Drives are opened at", socket)
			return h.Serve(cmd.Context(), l)
		},
	}
	c.Flags().StringVar(&socket, "socket", "", "where it is asked")
	c.Flags().StringVar(&rules, "rules", "", "which drives it may open")
	c.Flags().StringVar(&account, "account", "", "who may ask, by name or number")
	return c
}

// maxRules bounds a file of rules.
const maxRules = 64 << 10

// accountOf is the number of an account.
func accountOf(name string) (uint32, error) {
	u, err := user.Lookup(name)
	if err != nil {
		if u, err = user.LookupId(name); err != nil {
			return 0, fmt.Errorf("there is no account %q on this machine", name)
		}
	}
	id, err := strconv.ParseUint(u.Uid, 10, 32)
	return uint32(id), err
}

// driveLine is what is known of a drive, in a line.
func driveLine(d block.Drive) string {
	parts := []string{d.Path(), d.Bytes.Maker(), fmt.Sprintf("%d B sectors", d.Sector), d.Bus}
	for _, x := range []struct{ before, what string }{{"", d.Model}, {"serial ", d.Serial}, {"at ", d.Port}} {
		if x.what != "" {
			parts = append(parts, x.before+x.what)
		}
	}
	if d.ReadOnly {
		parts = append(parts, "read-only")
	}
	line := strings.Join(parts, ", ")
	if len(d.Own) > 0 {
		return line + ": this machine's own, " + strings.Join(d.Own, ", ")
	}
	return line
}

// noName are the characters that a folder's name does not take from a serial number.
var noName = regexp.MustCompile(`[^A-Za-z0-9._-]+`)

// deviceAt is the drive at a path to a block device, nil where it is something else.
func deviceAt(path string) (*block.Drive, error) {
	if st, err := os.Stat(path); err != nil || st.Mode()&os.ModeDevice == 0 {
		return nil, nil // whoever opens it says what is wrong
	}
	d, err := block.Host{}.Drive(path)
	if err != nil {
		return nil, errUse{err}
	}
	return d, nil
}

// errNameless tells that a drive has nothing by which it would be found again.
var errNameless = errors.New("it tells no serial number by which its journal would be found again; say where that goes with --runs, --shelf and --trail")

// beside is the path beside which a drive's own files lie, and which names it in them: the image itself, the image that
// a loop device shows, and for every other block device its model and serial number in the folder where programs keep
// their state. Where it is plugged in names no drive; without a serial number it is nameless.
func beside(path string) (at string, nameless error, err error) {
	d, err := deviceAt(path)
	switch {
	case err != nil:
		return "", nil, err
	case d == nil:
		return path, nil, nil
	case d.Image != "":
		return d.Image, nil, nil
	case d.Serial == "":
		return d.Path() + " " + d.Sequence, errUse{fmt.Errorf("%s: %w", path, errNameless)}, nil
	}
	state := os.Getenv("XDG_STATE_HOME")
	if state == "" {
		home, err := os.UserHomeDir()
		if err != nil {
			return "", nil, err
		}
		state = filepath.Join(home, ".local", "state")
	}
	name := noName.ReplaceAllString(strings.TrimSpace(d.Model+" "+d.Serial), "-")
	return filepath.Join(state, "jadetrail", strings.Trim(name, ".-")), nil, nil
}

// identity is what is known of a drive's model and serial number: of an image, and of what a loop device has behind it,
// what stands beside it; of any other block device what its kernel tells.
func identity(path string) (survey.Identity, error) {
	d, err := deviceAt(path)
	switch {
	case err != nil:
		return survey.Identity{}, err
	case d == nil:
		return survey.ReadIdentity(path)
	case d.Image != "":
		return survey.ReadIdentity(d.Image)
	}
	return survey.Identity{Model: d.Model, Serial: d.Serial, Removable: d.Removable}, nil
}
