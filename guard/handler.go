package guard

import "net/http"

// Handler cuts the connection of a request whose handling panicked: whoever asked must
// not take a part of an answer for the whole. A handler may do so by itself, with a panic
// of http.ErrAbortHandler, which is no fault.
func Handler(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		defer func() {
			panicked := recover()
			if panicked != nil && panicked != http.ErrAbortHandler {
				_ = note(panicked)
				panicked = http.ErrAbortHandler
			}
			if panicked != nil {
				panic(panicked)
			}
		}()
		next.ServeHTTP(w, r)
	})
}
