package change

import (
	"encoding/hex"
	"encoding/json"
	"fmt"
	"math"
	"strconv"
	"strings"
	"unicode/utf8"
)

// ValueType is the type of a parameter or of a literal value.
type ValueType string

const (
	TextValue      ValueType = "text"
	IntegerValue   ValueType = "integer"
	DecimalValue   ValueType = "decimal"
	BooleanValue   ValueType = "boolean"
	DateValue      ValueType = "date"
	TimestampValue ValueType = "timestamp"
)

// Value is a typed value in its text form.
type Value struct {
	Type ValueType `json:"type"`
	Text string    `json:"text"`
	Null bool      `json:"null,omitempty"`
	List []*string `json:"-"` // an array of texts, instead of Text, where a server has arrays
}

// KeyValue is a row's key: one value a column. PostgreSQL's values are in text
// form; SQLite's are int64, float64, string or []byte, as stored.
type KeyValue []any

// MarshalJSON writes the key as an array that reads back to the same values:
// numbers and strings as they are, {"real":"1.5"} and {"blob":"00ff"} where
// JSON has no form, {"text":"ff"} for text that is not UTF-8.
func (k KeyValue) MarshalJSON() ([]byte, error) {
	out := make([]any, len(k))
	for i, v := range k {
		switch v := v.(type) {
		case float64:
			out[i] = map[string]string{"real": strconv.FormatFloat(v, 'g', -1, 64)}
		case []byte:
			out[i] = map[string]string{"blob": hex.EncodeToString(v)}
		case string:
			if out[i] = v; !utf8.ValidString(v) {
				out[i] = map[string]string{"text": hex.EncodeToString([]byte(v))}
			}
		default:
			out[i] = v
		}
	}
	return json.Marshal(out)
}

// UnmarshalJSON reads what MarshalJSON wrote.
func (k *KeyValue) UnmarshalJSON(b []byte) error {
	var raw []json.RawMessage
	if err := json.Unmarshal(b, &raw); err != nil {
		return err
	}
	if raw == nil {
		*k = nil
		return nil
	}
	out := make(KeyValue, len(raw))
	for i, r := range raw {
		var err error
		switch {
		case len(r) > 0 && r[0] == '"':
			var s string
			err = json.Unmarshal(r, &s)
			out[i] = s
		case len(r) > 0 && r[0] == '{':
			var m map[string]string
			if err = json.Unmarshal(r, &m); err != nil {
				break
			}
			if s, ok := m["real"]; ok {
				out[i], err = strconv.ParseFloat(s, 64)
			} else if s, ok := m["blob"]; ok {
				out[i], err = hex.DecodeString(s)
			} else {
				var text []byte
				text, err = hex.DecodeString(m["text"])
				out[i] = string(text)
			}
		default:
			out[i], err = strconv.ParseInt(string(r), 10, 64)
		}
		if err != nil {
			return fmt.Errorf("key value %s: %w", r, err)
		}
	}
	*k = out
	return nil
}

// String writes the key for people: its values, parted by commas.
func (k KeyValue) String() string {
	parts := make([]string, len(k))
	for i, v := range k {
		switch v := v.(type) {
		case []byte:
			parts[i] = "0x" + hex.EncodeToString(v)
		case float64:
			parts[i] = strconv.FormatFloat(v, 'g', -1, 64)
		default:
			parts[i] = fmt.Sprint(v)
		}
	}
	return strings.Join(parts, ", ")
}

// Encode is MarshalJSON as a string, "" for no key.
func (k KeyValue) Encode() string {
	if k == nil {
		return ""
	}
	b, err := k.MarshalJSON()
	if err != nil { // only a type that no engine gives could bring this about
		panic(err)
	}
	return string(b)
}

// DecodeKey reads what Encode wrote.
func DecodeKey(s string) (KeyValue, error) {
	if s == "" {
		return nil, nil
	}
	var k KeyValue
	err := k.UnmarshalJSON([]byte(s))
	return k, err
}

// Int gives a key of one integer.
func (k KeyValue) Int() (int64, bool) {
	if len(k) != 1 {
		return 0, false
	}
	switch v := k[0].(type) {
	case int64:
		return v, true
	case string:
		n, err := strconv.ParseInt(v, 10, 64)
		return n, err == nil
	}
	return 0, false
}

// AddInt gives the key n after k in an integer key, stopping at the last one there is.
func AddInt(k, n int64) int64 {
	if n > 0 && k > math.MaxInt64-n {
		return math.MaxInt64
	}
	return k + n
}

func itoa(n int) string { return strconv.Itoa(n) }
