package main

import (
	"fmt"
	"os"
	"path/filepath"

	"github.com/spf13/cobra"

	"jadetrail/app/demo"
)

// dataFolder is JADETRAIL_DATA, or var below the working folder.
func dataFolder() string {
	if d := os.Getenv("JADETRAIL_DATA"); d != "" {
		return d
	}
	return "var"
}

func demoCmd() *cobra.Command {
	return &cobra.Command{Use: "demo", Short: "Make the demo's drives in the data folder, where they do not exist yet",
		RunE: func(cmd *cobra.Command, _ []string) error {
			n, err := demo.Make(filepath.Join(dataFolder(), "drives"))
			if err == nil {
				fmt.Fprintf(out(), "%d demo drives made.\n", n)
			}
			return err
		}}
}
