package embedded

import (
	"net/http"
	"strings"
)

// isGRPC reports whether a header is that of a gRPC call.
func isGRPC(h http.Header) bool {
	of, ok := strings.CutPrefix(h.Get("Content-Type"), "application/grpc")
	return ok && (of == "" || of[0] == '+' || of[0] == ';')
}

// badCalls are the status codes of gRPC by which a server says that it failed: unknown, deadline
// exceeded, internal, unavailable, data loss. The others are about what was asked.
var badCalls = map[string]bool{"2": true, "4": true, "13": true, "14": true, "15": true}

// badCall reports whether a call that is through has failed, by its trailer, or by its header where
// there was nothing between.
func badCall(answer *http.Response) bool {
	status := answer.Trailer.Get("Grpc-Status")
	if status == "" {
		status = answer.Header.Get("Grpc-Status")
	}
	return badCalls[status]
}
