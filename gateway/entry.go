package gateway

import (
	"fmt"
	"mime"
	"path"
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

// etag changes with content, since every change of content sets size, time or both.
func etag(e tree.Entry) string {
	return fmt.Sprintf(`"%x-%x"`, e.Modified.UnixNano(), e.Size)
}

// folderEntry describes a folder or signpost of the namespace.
func folderEntry(name string) tree.Entry {
	return tree.Entry{Name: name, Kind: tree.Folder, Modified: time.Unix(0, 0)}
}
