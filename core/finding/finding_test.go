package finding

import (
	"encoding/json"
	"fmt"
	"reflect"
	"testing"
)

func ExampleNew() {
	f := New(Warn, "clock", "fern", "its clock is 3 s off", "the wrong change may look later", "set its clock by a time server").With(To(CheckServer, "fern"))
	fmt.Println(f.Severity, f.Code, f.Action.Do, f.Action.Args)
	// Output: warn clock check-server [fern]
}

func TestWorst(t *testing.T) {
	for _, c := range []struct {
		list []Severity
		want Severity
	}{{nil, Pass}, {[]Severity{Pass, Pass}, Pass}, {[]Severity{Pass, Warn, Pass}, Warn}, {[]Severity{Warn, Fail, Warn}, Fail}} {
		var list []Finding
		for _, s := range c.list {
			list = append(list, New(s, "code", "", "found", "meaning", "remedy"))
		}
		if got := Worst(list); got != c.want {
			t.Errorf("%v come to %s, want %s", c.list, got, c.want)
		}
		Sort(list)
		if len(list) > 0 && list[0].Severity != c.want {
			t.Errorf("%v: %s is first", c.list, list[0].Severity)
		}
	}
}

func TestPassNeedsNothing(t *testing.T) {
	if f := New(Pass, "clock", "", "0.1 s", "meaning", "remedy").With(To(CheckServer, "fern")); f.Meaning+f.Remedy != "" || f.Action != nil {
		t.Errorf("%+v", f)
	}
}

// What was kept by earlier versions is still read.
func TestEarlierForm(t *testing.T) {
	for text, want := range map[string]Finding{
		`{"name":"clock","outcome":"warn","found":"3 s off","means":"it matters","remedy":"set it"}`:              {Severity: Warn, Code: "clock", Found: "3 s off", Meaning: "it matters", Remedy: "set it"},
		`{"level":"warn","says":"the interval is wide","means":"it tells little","remedy":"give it more memory"}`: {Severity: Warn, Found: "the interval is wide", Meaning: "it tells little", Remedy: "give it more memory"},
		`{"kind":"unresolved","account":{"name":"S-1-5-21-7","sid":"S-1-5-21-7"},"entry":3,"means":"nobody knows it","remedy":"revoke it","count":2,"samples":["a","b"]}`: {Severity: Warn, Code: "unresolved", Subject: "S-1-5-21-7", Found: "nobody knows it", Remedy: "revoke it",
			Count: 2, Samples: []string{"a", "b"}},
		`{"severity":"fail","code":"space","subject":"fern","found":"none is free","action":{"do":"set-intake","args":["beds","fern"],"href":"/api/v1/replica-sets/beds/replicas/fern"}}`: {Severity: Fail, Code: "space", Subject: "fern", Found: "none is free",
			Action: To(SetIntake, "beds", "fern")},
	} {
		var f Finding
		if err := json.Unmarshal([]byte(text), &f); err != nil || !reflect.DeepEqual(f, want) {
			t.Errorf("%s is read as %+v, %v", text, f, err)
		}
		back, err := json.Marshal(f)
		var again Finding
		if err != nil || json.Unmarshal(back, &again) != nil || !reflect.DeepEqual(again, want) {
			t.Errorf("written as %s, %v", back, err)
		}
	}
}
