package gateway

import (
	"fmt"
	"mime"
	"net/http"
	"path"
	"strings"
	"time"

	"bridgespan/tree"
)

// contentType knows a file's type by its name, so that nothing is opened to
// guess it.
func contentType(name string) string {
	if known := mime.TypeByExtension(path.Ext(name)); known != "" {
		return known
	}
	return "application/octet-stream"
}

// isPassive reports whether a browser shows a type without running anything in it.
func isPassive(contentType string) bool {
	kind, _, _ := mime.ParseMediaType(contentType)
	switch kind {
	case "text/plain", "image/png", "image/jpeg", "image/gif", "image/webp", "image/avif", "image/bmp":
		return true
	}
	return strings.HasPrefix(kind, "audio/") || strings.HasPrefix(kind, "video/")
}

// shield keeps what somebody has put into a file from acting as the person who reads it:
// a page of it may run nothing, and belongs to no site. What is more than shown is saved.
func shield(h http.Header, contentType string) {
	h.Set("Content-Security-Policy", "sandbox; default-src 'none'; frame-ancestors 'none'")
	h.Set("Cross-Origin-Resource-Policy", "same-origin")
	h.Set("X-Content-Type-Options", "nosniff")
	h.Set("Referrer-Policy", "no-referrer")
	if !isPassive(contentType) {
		h.Set("Content-Disposition", "attachment")
	}
}

// etag changes with content, since every change of content sets size, time or both.
func etag(e tree.Entry) string {
	return fmt.Sprintf(`"%x-%x"`, e.Modified.UnixNano(), e.Size)
}

// folderEntry describes a folder or signpost of the namespace.
func folderEntry(name string) tree.Entry {
	return tree.Entry{Name: name, Kind: tree.Folder, Modified: time.Unix(0, 0)}
}
