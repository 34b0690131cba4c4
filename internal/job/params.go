package job

import (
	"bytes"
	"errors"
	"fmt"

	"github.com/pelletier/go-toml/v2"
)

// ParseParams reads a file of parameters: TOML, a value for each name. They come as the texts that
// ParseValue reads. Faults are *Error with line and column.
func ParseParams(name string, text []byte) (map[string]string, error) {
	if i := invalidUTF8(text); i >= 0 {
		line := 1 + bytes.Count(text[:i], []byte("\n"))
		return nil, &Error{File: name, Place: Place{Line: line, Column: i - bytes.LastIndexByte(text[:i], '\n')}, Msg: fmt.Sprintf("byte 0x%02x is not valid UTF-8", text[i])}
	}
	r := reader{name: name, j: &Job{}}
	raw := map[string]any{}
	if err := toml.Unmarshal(text, &raw); err != nil {
		var decode *toml.DecodeError
		if errors.As(err, &decode) {
			return nil, r.decodeError(err)
		}
		return nil, &Error{File: name, Msg: err.Error()}
	}
	r.j.places, _, r.written = places(text)
	out := map[string]string{}
	for key, v := range raw {
		value, err := literal(v, r.written[key])
		if err != nil {
			return nil, r.fail(key, "%s: %v", key, err)
		}
		out[key] = value.Text
	}
	return out, nil
}
