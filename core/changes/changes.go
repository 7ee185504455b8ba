// Package changes says in words what differs between two states of a thing
// that was changed, as the records keep them: JSON objects.
package changes

import (
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"strings"
)

// silent are fields that say nothing to people: they follow from others, or
// change by themselves.
var silent = map[string]bool{"version": true, "id": true, "listens": true, "health": true, "healthText": true, "healthSince": true, "since": true, "lastCheck": true, "reachable": true, "trouble": true}

// mostWords bounds the list, and longest each value in it.
const (
	mostWords = 50
	longest   = 120
)

// Words lists what differs, in the order of the fields; nil when nothing does.
// A state that is empty, or no object, gives nothing.
func Words(before, after []byte) []string {
	var was, is map[string]any
	if json.Unmarshal(before, &was) != nil || json.Unmarshal(after, &is) != nil {
		return nil
	}
	var words []string
	object(&words, "", was, is)
	if len(words) > mostWords {
		words = append(words[:mostWords], fmt.Sprintf("and %d more", len(words)-mostWords))
	}
	return words
}

func object(words *[]string, at string, was, is map[string]any) {
	names := slices.Sorted(maps.Keys(is))
	for name := range was {
		if _, there := is[name]; !there {
			names = append(names, name)
		}
	}
	slices.Sort(names)
	for _, name := range names {
		if !silent[name] {
			value(words, join(at, name), was[name], is[name])
		}
	}
}

func join(at, name string) string {
	if at == "" {
		return name
	}
	return at + " " + name
}

func value(words *[]string, at string, was, is any) {
	wasObject, a := was.(map[string]any)
	isObject, b := is.(map[string]any)
	if a && b {
		object(words, at, wasObject, isObject)
		return
	}
	wasList, a := was.([]any)
	isList, b := is.([]any)
	if (a || was == nil) && (b || is == nil) && (a || b) && (named(wasList) || named(isList)) {
		list(words, at, wasList, isList)
		return
	}
	if x, y := short(was), short(is); x != y {
		*words = append(*words, fmt.Sprintf("%s: %s → %s", at, x, y))
	}
}

// named reports whether a list holds objects.
func named(list []any) bool {
	if len(list) == 0 {
		return false
	}
	_, ok := list[0].(map[string]any)
	return ok
}

// list compares objects by who they are.
func list(words *[]string, at string, was, is []any) {
	old := map[string]map[string]any{}
	for _, v := range was {
		if o, ok := v.(map[string]any); ok {
			old[identity(o)] = o
		}
	}
	for _, v := range is {
		o, ok := v.(map[string]any)
		if !ok {
			continue
		}
		name := identity(o)
		if before, there := old[name]; there {
			object(words, name, before, o)
			delete(old, name)
		} else {
			*words = append(*words, fmt.Sprintf("%s: %s added", at, name))
		}
	}
	for _, name := range slices.Sorted(maps.Keys(old)) {
		*words = append(*words, fmt.Sprintf("%s: %s removed", at, name))
	}
}

// identity is what people call an object by.
func identity(o map[string]any) string {
	if server, ok := o["server"].(string); ok {
		parts := []string{server}
		for _, field := range []string{"share", "sub"} {
			if s, ok := o[field].(string); ok && s != "" {
				parts = append(parts, s)
			}
		}
		return strings.Join(parts, "/")
	}
	for _, field := range []string{"name", "path", "id"} {
		if v, there := o[field]; there {
			return strings.Trim(short(v), `"`)
		}
	}
	return short(o)
}

// short writes a value so that it fits into a line.
func short(v any) string {
	switch x := v.(type) {
	case nil:
		return "nothing"
	case string:
		if x == "" {
			return "nothing"
		}
	case []any:
		if len(x) == 0 {
			return "nothing"
		}
	case map[string]any:
		if len(x) == 0 {
			return "nothing"
		}
	}
	text, err := json.Marshal(v)
	if err != nil {
		return "?"
	}
	if s := []rune(string(text)); len(s) > longest {
		return string(s[:longest]) + "…"
	}
	return string(text)
}
