package main

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"strconv"
	"time"

	mysqldriver "github.com/go-sql-driver/mysql"
	"github.com/spf13/cobra"
	"golang.org/x/sys/unix"

	"jadetrail/app/demo"
	"jadetrail/app/shop"
	"jadetrail/app/store"
	"jadetrail/app/web"
)

func migrateCmd() *cobra.Command {
	return &cobra.Command{Use: "migrate", Short: "Bring the database up to date, with its owner's account (JADETRAIL_OWNER_DSN)",
		RunE: func(cmd *cobra.Command, _ []string) error {
			owner, dsn := os.Getenv("JADETRAIL_OWNER_DSN"), os.Getenv("JADETRAIL_DSN")
			if owner == "" || dsn == "" {
				return errUse{errors.New("set JADETRAIL_OWNER_DSN to the owner's account and JADETRAIL_DSN to the application's")}
			}
			cfg, err := mysqldriver.ParseDSN(dsn)
			if err != nil {
				return errUse{fmt.Errorf("JADETRAIL_DSN is not valid: %w", err)}
			}
			return store.Migrate(cmd.Context(), owner, cfg.User)
		}}
}

func serveCmd() *cobra.Command {
	var asDemo bool
	c := &cobra.Command{Use: "serve", Short: "Start the web application",
		RunE: func(cmd *cobra.Command, _ []string) error { return serve(cmd.Context(), asDemo) }}
	c.Flags().BoolVar(&asDemo, "demo", false, "with the demo's people and jobs")
	return c
}

func serve(ctx context.Context, asDemo bool) error {
	unix.Umask(0o077) // what the shop keeps is for its account alone
	data := dataFolder()
	st, leave, err := enterShop(data)
	if err != nil {
		return err
	}
	defer leave()
	if st.Key, err = shopKey(data, st); err != nil {
		return err
	}
	if err := rightKind(st, asDemo); err != nil {
		return err
	}
	age, err := proveAfter(os.Getenv("JADETRAIL_PROVE_AFTER"))
	if err != nil {
		return err
	}
	log, err := logger(os.Getenv("JADETRAIL_LOG"))
	if err != nil {
		return err
	}
	its, err := shop.New(shop.Options{
		Store: st, Data: data, ProveAfter: age, Log: log,
	})
	if err != nil {
		return err
	}
	l, door, err := openDoor(data, asDemo)
	if err != nil {
		its.Close()
		return err
	}
	app, err := web.New(web.Options{
		Shop: its, Demo: asDemo, Log: log, Secure: door.secure, Beyond: door.beyond, Hosts: door.hosts, Proxy: door.proxy,
	})
	if err != nil {
		its.Close()
		return err
	}
	code, err := its.Welcome()
	if err != nil {
		its.Close()
		return err
	}
	// No limit on writing: a page may watch a long run.
	srv := &http.Server{
		Handler: app.Handler(), ReadHeaderTimeout: 10 * time.Second, ReadTimeout: time.Minute,
		IdleTimeout: 2 * time.Minute, BaseContext: func(net.Listener) context.Context { return ctx },
	}
	fmt.Fprintf(out(), "Jade Trail is at %s\n", door.address)
	if door.authority != "" {
		fmt.Fprintf(out(), "Browsers trust it once they have the authority in %s\n", door.authority)
	}
	if code != "" {
		fmt.Fprintf(out(), "Nobody has an account yet. Open it there with the code %s\n", code)
	}
	failed := make(chan error, 1)
	go func() { failed <- srv.Serve(l) }()
	select {
	case err := <-failed:
		return err
	case <-ctx.Done():
	}
	fmt.Fprintln(out(), "Stopping: work on drives goes on to its next safe point.")
	app.Close()
	end, cancel := context.WithTimeout(context.Background(), 10*time.Second)
	defer cancel()
	return srv.Shutdown(end)
}

// rightKind sees that a demo is opened as one, and a shop is not: the demo's passwords are known to everybody.
func rightKind(st *store.Store, asDemo bool) error {
	its, err := st.Settings()
	switch {
	case errors.Is(err, store.ErrNotFound) && asDemo:
		return st.Seed(demo.Opening())
	case errors.Is(err, store.ErrNotFound):
		return nil // its first day
	case err != nil:
		return err
	case its.Demo && !asDemo:
		return errors.New("this data folder holds the demo, whose passwords everybody knows. Nothing was started. " +
			"Choose another with JADETRAIL_DATA, or start the demo with `make demo`")
	case !its.Demo && asDemo:
		return errors.New("this data folder holds a shop, and no demo is made in it. Nothing was started. " +
			"Start it with `make run`, or choose another folder with JADETRAIL_DATA")
	case asDemo:
		return st.Seed(demo.Opening()) // what is missing of it
	}
	return nil
}

// logger writes the log to standard error, from the level on that is named: debug, info, warn or error; "" for info.
func logger(from string) (*slog.Logger, error) {
	var level slog.Level
	if from != "" {
		if err := level.UnmarshalText([]byte(from)); err != nil {
			return nil, errUse{fmt.Errorf(
				"JADETRAIL_LOG is %q, not debug, info, warn or error. Nothing was started", from,
			)}
		}
	}
	return slog.New(slog.NewTextHandler(os.Stderr, &slog.HandlerOptions{Level: level})), nil
}

// proveAfter is the age that the shop has set for verifications in whose name something is deleted: hours, of
// which 0 stands for each time; "" for none set.
func proveAfter(text string) (time.Duration, error) {
	if text == "" {
		return 0, nil
	}
	hours, err := strconv.ParseFloat(text, 64)
	if err != nil || !(hours >= 0 && hours <= 24*365) { // nor what is no number at all
		return 0, errUse{fmt.Errorf(
			"JADETRAIL_PROVE_AFTER is %q, and no number of hours, of at most a year. Nothing was started", text,
		)}
	}
	return max(time.Duration(hours*float64(time.Hour)), time.Nanosecond), nil
}

// openStore opens the database that the settings name.
func openStore() (*store.Store, error) {
	dsn := os.Getenv("JADETRAIL_DSN")
	if dsn == "" {
		return nil, errors.New("no database is named: set JADETRAIL_DSN, or start with `make demo`")
	}
	return store.Open(dsn)
}

// enterShop claims the data folder and opens the store, until leave is called.
func enterShop(data string) (st *store.Store, leave func(), err error) {
	lock, err := claim(data)
	if err != nil {
		return nil, nil, err
	}
	if st, err = openStore(); err != nil {
		lock.Close()
		return nil, nil, err
	}
	return st, func() { st.Close(); lock.Close() }, nil
}

// claim makes the data folder and locks it against a second server.
func claim(data string) (*os.File, error) {
	if err := errors.Join(os.MkdirAll(data, 0o700), os.Chmod(data, 0o700)); err != nil {
		return nil, fmt.Errorf(
			"the data folder %s cannot be used: %w. Nothing was changed. Choose another with JADETRAIL_DATA", data,
			err,
		)
	}
	f, err := os.OpenFile(filepath.Join(data, "lock"), os.O_RDWR|os.O_CREATE, 0o600)
	if err != nil {
		return nil, fmt.Errorf(
			"the data folder %s cannot be written: %w. Nothing was changed. Choose another with JADETRAIL_DATA", data,
			err,
		)
	}
	if err := unix.Flock(int(f.Fd()), unix.LOCK_EX|unix.LOCK_NB); err != nil {
		f.Close()
		return nil, fmt.Errorf(
			"the data folder %s is in use by another Jade Trail. Nothing was changed. Stop that one first", data,
		)
	}
	return f, nil
}
