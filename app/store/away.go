package store

import (
	"database/sql"
	"database/sql/driver"
	"errors"
	"net"
	"strings"

	mysqldriver "github.com/go-sql-driver/mysql"
	"golang.org/x/sys/unix"
	"gorm.io/driver/mysql"
)

// Away tells that an error comes from a database that cannot be reached.
func Away(err error) bool {
	var network *net.OpError
	return errors.Is(err, driver.ErrBadConn) || errors.Is(err, mysqldriver.ErrInvalidConn) || errors.Is(err, ErrUnreachable) || errors.Is(err, sql.ErrConnDone) ||
		errors.As(err, &network) && network.Op == "dial" || shuttingDown(err)
}

// Full tells that an error comes from a database that has no room left on its disk.
func Full(err error) bool {
	var said *mysqldriver.MySQLError
	if !errors.As(err, &said) {
		return false
	}
	const diskFull, fileFull = 1021, 1114                                           // ER_DISK_FULL, ER_RECORD_FILE_FULL
	named := func(text string) bool { return strings.Contains(said.Message, text) } // ENOSPC is 28
	return said.Number == diskFull || said.Number == fileFull || named("No space left on device") || named("rror 28")
}

// shuttingDown is what a database says that is just being stopped (ER_SERVER_SHUTDOWN,
// ER_CONNECTION_KILLED).
func shuttingDown(err error) bool {
	var said *mysqldriver.MySQLError
	return errors.As(err, &said) && (said.Number == 1053 || said.Number == 1927)
}

// twice is what a database says of what is there already (ER_DUP_ENTRY).
func twice(err error) bool {
	var said *mysqldriver.MySQLError
	return errors.As(err, &said) && said.Number == 1062
}

// trouble is an error of the database in words that a technician can do something with.
type trouble struct {
	text  string
	cause []error
}

func (t *trouble) Error() string   { return t.text }
func (t *trouble) Unwrap() []error { return t.cause }

// inWords gives an error of a database that is away, or whose disk is full, its words.
func inWords(err error) error {
	var already *trouble
	switch {
	case errors.As(err, &already):
		return err
	case Away(err):
		return &trouble{ErrUnreachable.Error(), []error{ErrUnreachable, err}}
	case Full(err):
		return &trouble{"the database has no room left on its disk", []error{unix.ENOSPC, err}}
	}
	return err
}

// worded is the dialect with its errors in words.
type worded struct{ mysql.Dialector }

// Translate implements gorm.ErrorTranslator.
func (worded) Translate(err error) error { return inWords(err) }
