package term

import "errors"

// Keys are not read on Windows: its consoles hand out single keys in another way.
type Keys struct{ C <-chan byte }

// OpenKeys fails.
func OpenKeys() (*Keys, error) { return nil, errors.New("keys are not read on Windows") }

// Close does nothing.
func (k *Keys) Close() {}
