package main

import (
	"errors"
	"fmt"
	"os"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"jadetrail/core/facts"
	"jadetrail/core/route"
	"jadetrail/core/volume"
)

// errNoRoute is the answer that a goal cannot be reached; what stands against it was said.
var errNoRoute = errors.New("there is no route to this goal")

func routesCmd() *cobra.Command {
	var asJSON bool
	var pcPath, goalPath string
	c := &cobra.Command{Use: "routes [--json] [--pc PC.json] --goal GOAL.json IMAGE", Short: "Work out the routes to a goal, each a complete plan with its price", Args: oneArg("image"),
		RunE: func(cmd *cobra.Command, args []string) error {
			if goalPath == "" {
				return errUse{errors.New("name a goal with --goal")}
			}
			b, err := os.ReadFile(goalPath)
			if err != nil {
				return errUse{err}
			}
			g, err := route.ParseGoal(b)
			if err != nil {
				return errUse{err}
			}
			im, sv, err := look(args[0], pcPath)
			if err != nil {
				return err
			}
			defer im.Close()
			var p places // as for a carry-out
			o, same, err := p.options(args[0], pcPath, false)
			if err != nil {
				return err
			}
			defer same.Close()
			f, err := facts.Gather(o.Sources, sv, nil)
			if err != nil {
				return err
			}
			if n, err := strconv.Atoi(g.Receiver); err == nil && sv.Volume(n) != nil {
				if sum, err := volume.Summarise(sv.Volume(n)); err == nil {
					f = facts.WithFolders(f, n, sum)
				}
			}
			a := route.Routes(sv.Layout, f, g)
			if asJSON {
				err = printJSON(a)
			} else {
				printAnswer(a)
			}
			if err == nil && len(a.Routes) == 0 {
				return errNoRoute
			}
			return err
		}}
	c.Flags().BoolVar(&asJSON, "json", false, "for programs")
	c.Flags().StringVar(&pcPath, "pc", "", "facts about the PC")
	c.Flags().StringVar(&goalPath, "goal", "", "the goal")
	return c
}

func printAnswer(a *route.Answer) {
	for i, r := range a.Routes {
		fmt.Fprintf(out(), "%d. %s: %s\n", i+1, r.Title, strings.Join(r.Words(), ", "))
		for _, n := range r.Notes {
			fmt.Fprintf(out(), "   %s\n", n)
		}
	}
	for _, o := range a.Obstacles {
		fmt.Fprintln(out(), o.Text)
	}
}
