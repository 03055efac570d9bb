package typed

import (
	"net/http"
	"slices"
	"strings"

	"golang.org/x/net/http/httpguts"

	"tavrin/internal/problem"
)

const (
	maxHeaders     = 10
	maxHeaderValue = 2000 // bytes
)

// CanonicalHeaders gives the names of headers the form in which they are compared.
func CanonicalHeaders(headers map[string]string) map[string]string {
	out := map[string]string{}
	for name, value := range headers {
		out[http.CanonicalHeaderKey(name)] = value
	}
	return out
}

// ownHeaders are headers that the service writes itself, or that say how a request is sent.
var ownHeaders = []string{"Host", "Content-Length", "Content-Type", "Transfer-Encoding", "Connection", "Upgrade", "Te", "Trailer", "Keep-Alive",
	"Proxy-Authorization", "Proxy-Connection", "Expect", "User-Agent"}

// Headers checks further headers of the calls that the service makes; their names are canonical.
func Headers(field string, headers map[string]string) error {
	if len(headers) > maxHeaders {
		return problem.Wrong(field, "at most %d headers can be sent along", maxHeaders)
	}
	for name, value := range headers {
		switch {
		case !httpguts.ValidHeaderFieldName(name):
			return problem.Wrong(field, "%q is no name of a header", name)
		case slices.Contains(ownHeaders, name) || strings.HasPrefix(strings.ToLower(name), "webhook-"):
			return problem.Wrong(field, "the header %s is the service's own to write", name)
		case !httpguts.ValidHeaderFieldValue(value) || value == "" || len(value) > maxHeaderValue:
			return problem.Wrong(field, "the value of %s has to be one line of at most %d bytes", name, maxHeaderValue)
		}
	}
	return nil
}
