package records

import (
	"bytes"
	"compress/flate"
	"context"
	"fmt"
	"io"
	"reflect"
	"sync"

	"gorm.io/gorm/schema"
)

// packed keeps a text compressed (DEFLATE, RFC 1951) where that makes it shorter: a blob in the file, while other texts are as
// they were. Fields have it by the tag serializer:packed.
type packed struct{}

func init() { schema.RegisterSerializer("packed", packed{}) }

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

// Value implements schema.SerializerValuerInterface.
func (packed) Value(_ context.Context, field *schema.Field, _ reflect.Value, given any) (any, error) {
	text, is := given.(string)
	if !is {
		return nil, fmt.Errorf("%s is a text, not %T", field.Name, given)
	}
	if len(text) < worthPacking {
		return text, nil
	}
	var out bytes.Buffer
	w := packers.Get().(*flate.Writer)
	defer packers.Put(w)
	w.Reset(&out)
	if _, err := io.WriteString(w, text); err != nil {
		return nil, err
	}
	if err := w.Close(); err != nil {
		return nil, err
	}
	if out.Len() >= len(text) {
		return text, nil
	}
	return out.Bytes(), nil
}

// Scan implements schema.SerializerInterface.
func (packed) Scan(ctx context.Context, field *schema.Field, row reflect.Value, kept any) error {
	text := ""
	switch v := kept.(type) {
	case nil:
	case string:
		text = v
	case []byte:
		all, err := io.ReadAll(flate.NewReader(bytes.NewReader(v)))
		if err != nil {
			return fmt.Errorf("%s, which was kept compressed: %w", field.Name, err)
		}
		text = string(all)
	default:
		return fmt.Errorf("%s is kept as %T", field.Name, kept)
	}
	field.ReflectValueOf(ctx, row).SetString(text)
	return nil
}
