package main

import (
	"errors"
	"fmt"
	"os"
	"os/user"
	"text/tabwriter"

	"github.com/spf13/cobra"

	"jadetrail/app/shop"
	"jadetrail/app/store"
	"jadetrail/core/words"
)

// peopleCmd keeps accounts at the terminal: whoever can read the shop's key and its database can do so, also while the
// server runs, and when no lead is left who can sign in.
func peopleCmd() *cobra.Command {
	c := &cobra.Command{Use: "people", Short: "Keep the accounts of a shop"}
	c.AddCommand(peopleListCmd(), peopleAddCmd(), peopleDisableCmd(), peopleResetCmd())
	return c
}

func peopleListCmd() *cobra.Command {
	c := &cobra.Command{Use: "list", Short: "List the accounts", Args: cobra.NoArgs}
	c.RunE = func(*cobra.Command, []string) error {
		return withPeople(func(s *shop.Shop, _ string) error {
			people, err := s.Store.Accounts()
			if err != nil {
				return err
			}
			w := tabwriter.NewWriter(out(), 0, 0, 2, ' ', 0)
			fmt.Fprintln(w, "SIGNS IN AS\tNAME\tROLE\tSECOND FACTOR\tACCOUNT")
			for i := range people {
				t := &people[i]
				second := words.Either(t.SecondSecret != "", "set up", "none")
				fmt.Fprintf(w, "%s\t%s\t%s\t%s\t%s\n", t.Login, t.Name, t.Role, second, stands(t))
			}
			return w.Flush()
		})
	}
	return c
}

// stands says how an account stands.
func stands(t *store.Technician) string {
	switch {
	case t.OffAt != nil:
		return "off since " + t.OffAt.Local().Format("2006-01-02 15:04")
	case t.PasswordHash == "":
		return "no password chosen yet"
	}
	return "on"
}

func peopleAddCmd() *cobra.Command {
	var role string
	c := &cobra.Command{
		Use: "add LOGIN NAME", Short: "Make an account, and print the one-time code for it", Args: cobra.ExactArgs(2),
	}
	c.RunE = func(_ *cobra.Command, args []string) error {
		return withPeople(func(s *shop.Shop, by string) error {
			code, err := s.AddPerson(by, args[0], args[1], store.Role(role))
			if err == nil {
				fmt.Fprintf(out(), "%s chooses a password within a week, with the code %s\n", args[1], code)
			}
			return err
		})
	}
	c.Flags().StringVar(&role, "role", string(store.Worker), "technician, lead or reader")
	return c
}

func peopleDisableCmd() *cobra.Command {
	c := &cobra.Command{
		Use: "disable LOGIN", Short: "Switch an account off, and sign it out everywhere", Args: cobra.ExactArgs(1),
	}
	c.RunE = func(_ *cobra.Command, args []string) error {
		return withPerson(args[0], func(s *shop.Shop, by string, t *store.Technician) error {
			err := s.Switch(by, t.ID, false)
			if err == nil {
				fmt.Fprintf(out(), "The account of %s is switched off.\n", t.Name)
			}
			return err
		})
	}
	return c
}

func peopleResetCmd() *cobra.Command {
	var second bool
	c := &cobra.Command{
		Use: "reset LOGIN", Short: "Void a password, switch the account on, and print a one-time code",
		Args: cobra.ExactArgs(1),
	}
	c.RunE = func(_ *cobra.Command, args []string) error {
		return withPerson(args[0], func(s *shop.Shop, by string, t *store.Technician) error {
			if t.OffAt != nil {
				if err := s.Switch(by, t.ID, true); err != nil {
					return err
				}
			}
			code, err := s.Reset(by, t.ID, second)
			if err == nil {
				fmt.Fprintf(out(), "%s chooses a password within a day, with the code %s\n", t.Name, code)
			}
			return err
		})
	}
	c.Flags().BoolVar(&second, "second", false, "take the second factor off as well")
	return c
}

// withPeople does something with the accounts of the shop; by is who does it, as the trail has it.
func withPeople(f func(s *shop.Shop, by string) error) error {
	st, err := openStore()
	if err != nil {
		return err
	}
	defer st.Close()
	data := dataFolder()
	if st.Key, err = shopKey(data, st); err != nil {
		return err
	}
	if _, err := st.Settings(); errors.Is(err, store.ErrNotFound) {
		return errors.New("the shop is not open yet; nothing was changed. " +
			"Start it, and open it in the browser with the code that is printed")
	} else if err != nil {
		return err
	}
	by := fmt.Sprintf("user %d at the terminal", os.Getuid())
	if u, err := user.Current(); err == nil {
		by = u.Username + " at the terminal"
	}
	return f(shop.ForPeople(st, now, random), by)
}

// withPerson does something with one account.
func withPerson(login string, f func(s *shop.Shop, by string, t *store.Technician) error) error {
	return withPeople(func(s *shop.Shop, by string) error {
		t, err := s.Store.Account(login)
		if err != nil {
			return err
		}
		return f(s, by, t)
	})
}
