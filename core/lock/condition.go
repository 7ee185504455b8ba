package lock

import (
	"errors"
	"fmt"
	"strings"
)

// Condition is one state that a resource must, or must not, be in.
type Condition struct {
	Not   bool
	Token string // a lock token; or
	ETag  string // an entity tag with its quotes, weak ones with W/ before
}

// List is conditions that must all hold for one resource.
type List struct {
	Resource   string // the URI that it is about; "" for what is asked for
	Conditions []Condition
}

// If is a parsed If header: it holds when one of its lists does.
type If []List

// mostConditions bounds a header.
const mostConditions = 1000

var errIf = errors.New("malformed If header")

// ParseIf reads an If header (RFC 4918, section 10.4.2); "" gives none.
func ParseIf(header string) (If, error) {
	var lists If
	rest := strings.TrimSpace(header)
	resource, tagged, count := "", false, 0
	for rest != "" {
		switch rest[0] {
		case '<':
			end := strings.IndexByte(rest, '>')
			if end < 2 || len(lists) > 0 && !tagged {
				return nil, fmt.Errorf("%w: a resource at %q", errIf, clip(rest))
			}
			resource, tagged = rest[1:end], true
			rest = strings.TrimLeft(rest[end+1:], " \t")
			if !strings.HasPrefix(rest, "(") {
				return nil, fmt.Errorf("%w: no list after <%s>", errIf, clip(resource))
			}
		case '(':
			conditions, after, err := parseConditions(rest[1:])
			if err != nil {
				return nil, err
			}
			if count += len(conditions); count > mostConditions {
				return nil, fmt.Errorf("%w: more than %d conditions", errIf, mostConditions)
			}
			lists = append(lists, List{resource, conditions})
			rest = strings.TrimLeft(after, " \t")
		default:
			return nil, fmt.Errorf("%w: %q", errIf, clip(rest))
		}
	}
	return lists, nil
}

func parseConditions(rest string) (list []Condition, after string, err error) {
	not := false
	for {
		rest = strings.TrimLeft(rest, " \t")
		switch {
		case strings.HasPrefix(rest, ")"):
			if len(list) == 0 || not {
				return nil, "", fmt.Errorf("%w: an empty list", errIf)
			}
			return list, rest[1:], nil
		case len(rest) > 3 && strings.EqualFold(rest[:3], "not") && !not:
			not, rest = true, rest[3:]
		case strings.HasPrefix(rest, "<"):
			end := strings.IndexByte(rest, '>')
			if end < 2 {
				return nil, "", fmt.Errorf("%w: a token without an end", errIf)
			}
			list, not = append(list, Condition{Not: not, Token: rest[1:end]}), false
			rest = rest[end+1:]
		case strings.HasPrefix(rest, "["):
			end := strings.IndexByte(rest, ']')
			tag := ""
			if end > 0 {
				tag = rest[1:end]
			}
			if bare := strings.TrimPrefix(tag, "W/"); len(bare) < 2 || bare[0] != '"' || bare[len(bare)-1] != '"' {
				return nil, "", fmt.Errorf("%w: not an entity tag: %q", errIf, clip(rest))
			}
			list, not = append(list, Condition{Not: not, ETag: tag}), false
			rest = rest[end+1:]
		default:
			return nil, "", fmt.Errorf("%w: %q", errIf, clip(rest))
		}
	}
}

func clip(s string) string { return s[:min(len(s), 60)] }

// Tokens are all tokens that the header brings, in whatever list: each is
// thereby submitted (section 10.4.1).
func (h If) Tokens() []string {
	var tokens []string
	for _, l := range h {
		for _, c := range l.Conditions {
			if c.Token != "" {
				tokens = append(tokens, c.Token)
			}
		}
	}
	return tokens
}

// Resources are what the lists are about, "" among them for what is asked for.
func (h If) Resources() []string {
	var list []string
	for _, l := range h {
		list = append(list, l.Resource)
	}
	return list
}

// State is what a resource is like: its entity tag ("" when it is not there)
// and the tokens of the locks that cover it.
type State struct {
	ETag   string
	Tokens []string
}

// Holds reports whether the header holds for what stateOf gives for each
// resource. An empty header holds.
func (h If) Holds(stateOf func(resource string) (State, error)) (bool, error) {
	for _, l := range h {
		state, err := stateOf(l.Resource)
		if err != nil {
			return false, err
		}
		if l.holds(state) {
			return true, nil
		}
	}
	return len(h) == 0, nil
}

func (l List) holds(s State) bool {
	for _, c := range l.Conditions {
		met := c.ETag != "" && c.ETag == s.ETag
		for _, token := range s.Tokens {
			met = met || c.Token == token
		}
		if met == c.Not {
			return false
		}
	}
	return true
}
