package api

import (
	"net/http"
	"strconv"
	"strings"
)

func etag(version int) string { return strconv.Quote(strconv.Itoa(version)) }

// matched reads an If-Match header (RFC 9110) that names a version; -1 stands for "*".
func matched(header string) (int, error) {
	header = strings.TrimSpace(header)
	switch header {
	case "":
		return 0, &Problem{Status: http.StatusPreconditionRequired, Title: "Precondition Required",
			Detail: "say which version you have read: If-Match: \"N\" (the ETag of the answer), or If-Match: * to " +
				"apply over whatever there is"}
	case "*":
		return -1, nil
	}
	text, err := strconv.Unquote(header)
	n, err2 := strconv.Atoi(text)
	if err != nil || err2 != nil || n < 0 {
		return 0, &Problem{Status: http.StatusBadRequest, Title: "Bad Request",
			Detail: "If-Match is a version in quotes, such as \"3\", or *"}
	}
	return n, nil
}
