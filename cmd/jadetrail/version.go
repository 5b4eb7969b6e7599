package main

import (
	"fmt"
	"runtime/debug"

	"github.com/spf13/cobra"
)

func versionCmd() *cobra.Command {
	return &cobra.Command{Use: "version", Short: "Say which Jade Trail this is", Args: cobra.NoArgs,
		RunE: func(*cobra.Command, []string) error {
			info, ok := debug.ReadBuildInfo()
			_, err := fmt.Fprintln(out(), "Jade Trail,", built(info, ok))
			return err
		}}
}

// built says from which state of its source the program was built; ok is false where it does not know.
func built(info *debug.BuildInfo, ok bool) string {
	if !ok {
		return "built from a source that is not known"
	}
	of := map[string]string{}
	for _, s := range info.Settings {
		of[s.Key] = s.Value
	}
	if of["vcs.revision"] == "" {
		return "built from a source that is not known, with " + info.GoVersion
	}
	changed := ""
	if of["vcs.modified"] == "true" {
		changed = ", with changes that are not committed"
	}
	return fmt.Sprintf("built from %.12s of %s%s, with %s", of["vcs.revision"], of["vcs.time"], changed, info.GoVersion)
}
