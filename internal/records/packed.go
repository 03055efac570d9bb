package records

import (
	"bytes"
	"compress/flate"
	"database/sql/driver"
	"fmt"
	"io"
	"sync"
)

// Packed is a text that is kept compressed (DEFLATE, RFC 1951) where that makes it shorter. In the file it is a blob then; a
// text is as it was.
type Packed string

// worthPacking is the length, in bytes, from which a text is compressed.
const worthPacking = 200

// packers are kept from one text to the next: each takes hundreds of kilobytes.
var packers = sync.Pool{New: func() any {
	w, err := flate.NewWriter(nil, flate.BestSpeed)
	if err != nil {
		panic("records: this level of compression is a constant: " + err.Error())
	}
	return w
}}

// Value implements driver.Valuer.
func (p Packed) Value() (driver.Value, error) {
	if len(p) < worthPacking {
		return string(p), nil
	}
	var out bytes.Buffer
	w := packers.Get().(*flate.Writer)
	defer packers.Put(w)
	w.Reset(&out)
	if _, err := io.WriteString(w, string(p)); err != nil {
		return nil, err
	}
	if err := w.Close(); err != nil {
		return nil, err
	}
	if out.Len() >= len(p) {
		return string(p), nil
	}
	return out.Bytes(), nil
}

// Scan implements sql.Scanner.
func (p *Packed) Scan(from any) error {
	switch v := from.(type) {
	case nil:
		*p = ""
	case string:
		*p = Packed(v)
	case []byte:
		text, err := io.ReadAll(flate.NewReader(bytes.NewReader(v)))
		if err != nil {
			return fmt.Errorf("a text that was kept compressed: %w", err)
		}
		*p = Packed(text)
	default:
		return fmt.Errorf("a text is kept as %T", from)
	}
	return nil
}

// GormDataType says that it is a text to whoever writes queries.
func (Packed) GormDataType() string { return "text" }
