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

// Ports tried one after the other when no address is set.
const firstPort, lastPort = 8080, 8119

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
	data := dataFolder()
	st, leave, err := enterShop(data)
	if err != nil {
		return err
	}
	defer leave()
	if st.Key, err = shopKey(data, st); err != nil {
		return err
	}
	if asDemo {
		if err := st.Seed(demo.Opening()); err != nil {
			return err
		}
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
		Store: st, Data: data, Name: os.Getenv("JADETRAIL_SHOP"), ProveAfter: age, Log: log,
	})
	if err != nil {
		return err
	}
	app, err := web.New(web.Options{Shop: its, Demo: asDemo, Log: log})
	if err != nil {
		its.Close()
		return err
	}
	l, err := listen()
	if err != nil {
		return err
	}
	// No limit on writing: a page may watch a long run.
	srv := &http.Server{
		Handler: app.Handler(), ReadHeaderTimeout: 10 * time.Second, ReadTimeout: time.Minute,
		IdleTimeout: 2 * time.Minute, BaseContext: func(net.Listener) context.Context { return ctx },
	}
	fmt.Fprintf(out(), "Jade Trail is at http://%s\n", l.Addr())
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
	if err := os.MkdirAll(data, 0o755); err != nil {
		return nil, fmt.Errorf(
			"the data folder %s cannot be used: %w. Nothing was changed. Choose another with JADETRAIL_DATA", data,
			err,
		)
	}
	f, err := os.OpenFile(filepath.Join(data, "lock"), os.O_RDWR|os.O_CREATE, 0o644)
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

func listen() (net.Listener, error) {
	if a := os.Getenv("JADETRAIL_ADDR"); a != "" {
		l, err := net.Listen("tcp", a)
		if err != nil {
			return nil, fmt.Errorf(
				"the address %s cannot be used: %w. Nothing was changed. Choose another with JADETRAIL_ADDR", a, err,
			)
		}
		return l, nil
	}
	var last error
	for p := firstPort; p <= lastPort; p++ {
		l, err := net.Listen("tcp", fmt.Sprintf("127.0.0.1:%d", p))
		if err == nil {
			return l, nil
		}
		last = err
	}
	return nil, fmt.Errorf(
		"no port from %d to %d is free: %w. Choose one with JADETRAIL_ADDR", firstPort, lastPort, last,
	)
}
