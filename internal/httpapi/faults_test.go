package httpapi_test

import (
	"database/sql"
	"flag"
	"fmt"
	"io"
	"net/http"
	"slices"
	"strings"
	"testing"

	kit "ivytable.example/ivytable/internal/testkit"
)

// records is what all tables hold, as checksums. What is noted of a request by itself is left out: when a token was used, attempts to
// sign in.
func records(t *testing.T, db *sql.DB) map[string]string {
	t.Helper()
	rows, err := db.Query("CHECKSUM TABLE " + strings.Join(tables(t, db), ", "))
	if err != nil {
		t.Fatal(err)
	}
	defer rows.Close()
	out := map[string]string{}
	for rows.Next() {
		var name string
		var sum sql.NullString
		if err := rows.Scan(&name, &sum); err != nil {
			t.Fatal(err)
		}
		out[name[strings.IndexByte(name, '.')+1:]] = sum.String
	}
	return out
}

var tables = func() func(*testing.T, *sql.DB) []string {
	var all []string
	return func(t *testing.T, db *sql.DB) []string {
		t.Helper()
		if all != nil {
			return all
		}
		rows, err := db.Query("SELECT table_name FROM information_schema.tables WHERE table_schema = DATABASE() ORDER BY 1")
		if err != nil {
			t.Fatal(err)
		}
		defer rows.Close()
		for rows.Next() {
			var name string
			if err := rows.Scan(&name); err != nil {
				t.Fatal(err)
			}
			all = append(all, name)
		}
		return all
	}
}()

// once asks without trying again; an answer that broke off has the status 0.
func once(r *http.Request) (int, string) {
	client := http.Client{Transport: &http.Transport{DisableKeepAlives: true}}
	res, err := client.Do(r)
	if err != nil {
		return 0, ""
	}
	defer res.Body.Close()
	b, err := io.ReadAll(res.Body)
	if err != nil {
		return 0, ""
	}
	return res.StatusCode, string(b)
}

var everything = flag.Bool("everything", false, "fail at every statement of each request, not at every fifth")

// At whichever statement of a request the database fails, the answer says so, and nothing of a change is left.
func TestAFaultAtEachStatement(t *testing.T) {
	fresh(t, "httpapi_faults")
	db, err := sql.Open("mysql", k.DSN)
	if err != nil {
		t.Fatal(err)
	}
	defer db.Close()
	f := newFixtures(t, "Faulty")
	ops := operations()
	statements := 0
	for i, c := range contract {
		by := slices.IndexFunc(c.want[:], func(status int) bool { return status < 300 })
		if c.by != nil {
			by = c.by[0]
		}
		if by < 0 {
			continue
		}
		op, as := ops[c.op], actors[by].address
		values, body := c.path, c.body
		f.fill(as, &values, &body)
		path := at(op.Path, values, c.query)
		request(t, as, op.Method, path, body) // signs in
		ask(t, as, "GET", "/api/v1/me", "")
		was := records(t, db)
		first, step := 1, 1
		if !*everything {
			first, step = 1+i%5, 5
		}
		for n, done := first, false; !done; n += step {
			for _, deadlock := range []bool{true, false} {
				at := &kit.Fault{At: n, Deadlock: deadlock}
				r := request(t, as, op.Method, path, body)
				k.Pool.Intercept(at.Intercept)
				status, says := once(r)
				k.Pool.Intercept(nil)
				if at.Query == "" {
					if done = true; status != c.want[by] {
						t.Errorf("%s: in the end %d, want %d\n%s", c.op, status, c.want[by], says)
					}
					break
				}
				statements++
				what := fmt.Sprintf("%s, statement %d (deadlock: %t): %.200s", c.op, n, deadlock, strings.Join(strings.Fields(at.Query), " "))
				if status != http.StatusServiceUnavailable && (status != 0 || !strings.HasPrefix(c.op, "export-")) {
					t.Errorf("%s\n%d %.300s", what, status, says)
				}
				if strings.Contains(says, "was saved") { // and could not be read again
					done = true
					break
				}
				if !at.Kept {
					continue
				}
				is := records(t, db)
				for name := range is {
					if is[name] != was[name] {
						t.Errorf("%s\nchanged %s, and said %s", what, name, says)
					}
				}
				was = is
			}
		}
	}
	t.Logf("failed at %d statements", statements)
}
