package seal

import (
	"encoding/base64"
	"strings"

	"bridgespan/tree"
)

// overhead is what AES-SIV adds to a name, in bytes.
const overhead = 16

// Path returns the object key of a path: the path itself, or each element encrypted when names are sealed. The element .bspan and the
// elements directly in it keep their names.
func (k *Key) Path(name string) string {
	if !k.sealsNames {
		return name
	}
	elements := strings.Split(name, "/")
	for i, element := range elements {
		if i < 2 && tree.Reserved(elements[0]) {
			continue
		}
		sealed, err := k.names.EncryptDeterministically([]byte(element), nil)
		if err != nil {
			panic(err) // a name is shorter than 2 GiB
		}
		elements[i] = base64.RawURLEncoding.EncodeToString(sealed)
	}
	return strings.Join(elements, "/")
}

// Name returns the name of an element of a key in a folder, which is given by its path. It returns false for one that this key
// did not seal.
func (k *Key) Name(folder, element string) (string, bool) {
	if !k.sealsNames || folder == "." && tree.Reserved(element) || tree.Reserved(folder) && !strings.Contains(folder, "/") {
		return element, true
	}
	sealed, err := base64.RawURLEncoding.Strict().DecodeString(element)
	if err != nil || len(sealed) < overhead {
		return "", false
	}
	name, err := k.names.DecryptDeterministically(sealed, nil)
	return string(name), err == nil
}

// Open returns the path of a key. It returns false for one that this key did not seal.
func (k *Key) Open(key string) (string, bool) {
	path := "."
	if key == path {
		return path, true
	}
	for element := range strings.SplitSeq(key, "/") {
		name, ok := k.Name(path, element)
		if !ok {
			return "", false
		}
		path = strings.TrimPrefix(path+"/"+name, "./")
	}
	return path, true
}

// Plain reports whether a file keeps its content and name whatever the key: what Bridge Span keeps directly in .bspan, such as
// the mark of a set, has to be readable for those who do not have the key.
func Plain(name string) bool {
	top, rest, inside := strings.Cut(name, "/")
	return inside && tree.Reserved(top) && !strings.Contains(rest, "/")
}
