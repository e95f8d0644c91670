package format

import (
	"encoding/base64"
	"errors"
	"strings"
)

// DataURI returns what an address holds in itself (RFC 2397); is tells whether
// it does. Only the base64 form is read, which is that of pictures and buffers.
func DataURI(uri string) (data []byte, is bool, err error) {
	rest, is := strings.CutPrefix(uri, "data:")
	if !is {
		return nil, false, nil
	}
	_, body, ok := strings.Cut(rest, ";base64,")
	if !ok {
		return nil, true, errors.New("a data URI that is not base64")
	}
	data, err = base64.StdEncoding.DecodeString(body)
	if err != nil {
		data, err = base64.RawStdEncoding.DecodeString(strings.TrimRight(body, "="))
	}
	return data, true, err
}
