package access

import (
	"fmt"
	"strings"
	"testing"
)

func TestProxies(t *testing.T) {
	p, err := ParseProxies("10.0.0.1, 192.168.7.0/24 fd00::/8")
	if err != nil {
		t.Fatal(err)
	}
	for _, c := range []struct {
		peer      string
		forwarded []string
		want      string
	}{
		{"203.0.113.9:1000", nil, "203.0.113.9"},
		{"203.0.113.9:1000", []string{"198.51.100.1"}, "203.0.113.9"}, // no proxy of ours: anybody can send the header
		{"10.0.0.1:1000", nil, "10.0.0.1"},
		{"10.0.0.1:1000", []string{"198.51.100.1"}, "198.51.100.1"},
		{"10.0.0.1:1000", []string{"1.1.1.1, 198.51.100.1"}, "198.51.100.1"}, // the first one was sent by the client
		{"10.0.0.1:1000", []string{"1.1.1.1", "198.51.100.1, 192.168.7.8"}, "198.51.100.1"},
		{"10.0.0.1:1000", []string{"198.51.100.1, nonsense"}, "10.0.0.1"},
		{"[fd00::1]:1000", []string{"2001:db8::1"}, "2001:db8::1"},
		{"[::ffff:10.0.0.1]:1000", []string{"198.51.100.1"}, "198.51.100.1"},
		{"10.0.0.1:1000", []string{strings.Repeat("10.0.0.1,", 100_000)}, "10.0.0.1"},
	} {
		if got := p.Client(c.peer, c.forwarded); got != c.want {
			t.Errorf("%s, %.60v: %s, want %s", c.peer, c.forwarded, got, c.want)
		}
	}
	for _, text := range []string{"10.0.0", "proxy.example", "10.0.0.0/40", strings.Repeat("10.0.0.1,", 101)} {
		if _, err := ParseProxies(text); err == nil {
			t.Errorf("%.40q is taken", text)
		}
	}
	if none, err := ParseProxies(" "); err != nil || len(none) != 0 {
		t.Errorf("no proxies: %v, %v", none, err)
	}
	var nobody Proxies
	if got := nobody.Client("10.0.0.1:5", []string{"198.51.100.1"}); got != "10.0.0.1" {
		t.Error(fmt.Sprint("nobody is trusted: ", got))
	}
}
