package workspace

import (
	"bufio"
	"encoding/csv"
	"encoding/json"
	"errors"
	"io"
)

// Export is a list that is written out as a whole while it is read.
type Export struct {
	Format string // csv, or jsonl: a line of JSON for each
	// Open begins the answer: everything that can be refused is refused before. Its name
	// has an ending.
	Open func(name string) io.Writer
}

// Rows is an export that has begun.
type Rows struct {
	csv  *csv.Writer
	json *json.Encoder
	out  *bufio.Writer
	err  error // of the beginning
}

// Begin begins an export with its headings.
func (x Export) Begin(name string, columns []string) *Rows {
	if x.Format == "jsonl" {
		r := &Rows{out: bufio.NewWriterSize(x.Open(name+".jsonl"), 1<<16)}
		r.json = json.NewEncoder(r.out)
		r.json.SetEscapeHTML(false)
		return r
	}
	r := &Rows{csv: csv.NewWriter(x.Open(name + ".csv"))}
	r.csv.UseCRLF = true
	r.err = r.csv.Write(columns)
	return r
}

// Row writes one row: what as JSON, or cells.
func (r *Rows) Row(what any, cells func() []string) error {
	if r.json != nil {
		return r.json.Encode(what)
	}
	return r.csv.Write(cells())
}

// Flush writes what was held back.
func (r *Rows) Flush() error {
	if r.json != nil {
		return r.out.Flush()
	}
	r.csv.Flush()
	return r.csv.Error()
}

// End ends an export that came to an error, or to none.
func (r *Rows) End(err error) error {
	return errors.Join(r.err, err, r.Flush())
}
