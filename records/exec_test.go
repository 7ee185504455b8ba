package records

import (
	"context"
	"database/sql"
	"errors"
	"testing"

	"github.com/go-sql-driver/mysql"

	"bridgespan/core/fault"
)

// failing is a connection on which statements fail with these errors, one after the other.
type failing struct {
	runner
	errs []error
	ran  int
}

func (f *failing) ExecContext(context.Context, string, ...any) (sql.Result, error) {
	f.ran++
	if f.ran > len(f.errs) {
		return oneRow{}, nil
	}
	return nil, f.errs[f.ran-1]
}

type oneRow struct{}

func (oneRow) LastInsertId() (int64, error) { return 7, nil }
func (oneRow) RowsAffected() (int64, error) { return 1, nil }

// A statement of its own that meets a deadlock is tried again, and nothing else is.
func TestExecTriesAgain(t *testing.T) {
	deadlock, wrong := error(&mysql.MySQLError{Number: errDeadlock}), error(&mysql.MySQLError{Number: 1064})
	for what, c := range map[string]struct {
		errs []error
		ran  int
		kind fault.Kind
		err  error
	}{
		"at once":            {nil, 1, 0, nil},
		"after deadlocks":    {[]error{deadlock, deadlock}, 3, 0, nil},
		"a wrong statement":  {[]error{wrong}, 1, 0, wrong},
		"deadlocks for ever": {[]error{deadlock, deadlock, deadlock, deadlock, deadlock, deadlock, deadlock, deadlock, deadlock}, attempts, fault.Unavailable, deadlock},
		"a lost connection":  {[]error{mysql.ErrInvalidConn}, 1, fault.Unavailable, mysql.ErrInvalidConn}, // it may have been done
	} {
		f := &failing{errs: c.errs}
		rows, id, err := (Queries{f}).exec(t.Context(), "UPDATE")
		if f.ran != c.ran || fault.KindOf(err) != c.kind || !errors.Is(err, c.err) || err == nil && (rows != 1 || id != 7) {
			t.Errorf("%s: ran %d times, %v", what, f.ran, err)
		}
	}
}
