package gateway

import (
	"context"
	"errors"
	"io/fs"
	"path"
	"regexp"
	"strings"

	"bridgespan/core/namespace"
	"bridgespan/tree"
)

// shortName is what a server may answer to as a second name of an entry: up to eight
// characters with a tilde, and an ending of up to three ([MS-FSCC] 2.1.5.2.1).
var shortName = regexp.MustCompile(`^[^./]{1,8}(\.[^./]{0,3})?$`)

// ownName returns an error when an element of a name is only the short name of an entry,
// which is not listed by it. Such a name would lead to what has another one: past its
// locks, and to what belongs to the service.
func ownName(ctx context.Context, t tree.Tree, name string) error {
	above := "."
	for element := range strings.SplitSeq(name, "/") {
		if strings.Contains(element, "~") && shortName.MatchString(element) {
			if err := listed(ctx, t, above, element); err != nil {
				return err
			}
		}
		above = path.Join(above, element)
	}
	return nil
}

// listed returns an error when there is an entry of a name that its folder does not list.
func listed(ctx context.Context, t tree.Tree, folder, name string) error {
	full := path.Join(folder, name)
	if _, err := t.Stat(ctx, full); err != nil {
		return nil // it can be made, or fails by itself
	}
	for e, err := range t.List(ctx, folder, tree.Bare) {
		switch {
		case err != nil && e.Name == "" && !errors.Is(err, fs.ErrPermission):
			return err
		case err == nil && namespace.Key(e.Name) == namespace.Key(name):
			return nil
		}
	}
	return tree.PathError("open", full, fs.ErrNotExist)
}
