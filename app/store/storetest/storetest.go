// Package storetest gives tests a database of their own.
package storetest

import (
	"database/sql"
	"fmt"
	"os"
	"strings"
	"testing"
	"time"

	_ "github.com/go-sql-driver/mysql" // the driver
)

// Database makes a database without tables on the private server that the test command starts, until the test ends. It
// returns the addresses of the owner's account and of the application's, which has no rights in it before Migrate. A
// test that is run without the server is skipped.
func Database(t testing.TB) (owner, app string) {
	t.Helper()
	owner, app = os.Getenv("JADETRAIL_TEST_OWNER_DSN"), os.Getenv("JADETRAIL_TEST_DSN")
	if owner == "" {
		t.Skip("needs the private MariaDB that `make test` starts")
	}
	name := fmt.Sprintf("jadetrail_t%d", time.Now().UnixNano())
	admin, err := sql.Open("mysql", owner)
	if err != nil {
		t.Fatal(err)
	}
	if _, err := admin.Exec("CREATE DATABASE " + name); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() {
		admin.Exec("DROP DATABASE " + name)
		admin.Close()
	})
	at := func(dsn string) string { return strings.Replace(dsn, "/jadetrail", "/"+name, 1) }
	return at(owner), at(app)
}
