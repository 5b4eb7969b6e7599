package main

import (
	"errors"

	"github.com/spf13/cobra"
)

func serveCmd() *cobra.Command {
	return &cobra.Command{Use: "serve", RunE: func(*cobra.Command, []string) error { return errors.New("soon") }}
}
func migrateCmd() *cobra.Command {
	return &cobra.Command{Use: "migrate", RunE: func(*cobra.Command, []string) error { return errors.New("soon") }}
}
