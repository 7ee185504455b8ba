package e2e

import (
	"database/sql"
	"fmt"
	"strconv"
	"strings"
	"testing"

	_ "github.com/go-sql-driver/mysql"

	"bridgespan/e2e/harness"
)

func itoa(n int) string { return strconv.Itoa(n) }

// dumpTable is all of a table, as text.
func dumpTable(t *testing.T, e *harness.Estate, table string) string {
	t.Helper()
	db, err := sql.Open("mysql", e.Database.DSN("bridgespan"))
	if err != nil {
		t.Fatal(err)
	}
	defer db.Close()
	rows, err := db.QueryContext(t.Context(), "SELECT * FROM "+table)
	if err != nil {
		t.Fatal(err)
	}
	defer rows.Close()
	columns, err := rows.Columns()
	if err != nil {
		t.Fatal(err)
	}
	var b strings.Builder
	for rows.Next() {
		cells := make([]any, len(columns))
		for i := range cells {
			cells[i] = new(sql.RawBytes)
		}
		if err := rows.Scan(cells...); err != nil {
			t.Fatal(err)
		}
		for _, c := range cells {
			fmt.Fprintf(&b, "%s\t", *c.(*sql.RawBytes))
		}
	}
	return b.String()
}
