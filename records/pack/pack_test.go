package pack_test

import (
	"errors"
	"fmt"
	"reflect"
	"strings"
	"testing"
	"time"

	"bridgespan/core/acl"
	"bridgespan/core/chunk"
	"bridgespan/core/replica"
	"bridgespan/records/pack"
)

// numbers keeps descriptors in memory.
type numbers struct{ list []acl.Descriptor }

func (n *numbers) number(d acl.Descriptor) (int64, error) {
	n.list = append(n.list, d)
	return int64(len(n.list)), nil
}

func (n *numbers) numbered(id int64) (acl.Descriptor, error) {
	if id < 1 || int(id) > len(n.list) {
		return acl.Descriptor{}, fmt.Errorf("nothing has the number %d", id)
	}
	return n.list[id-1], nil
}

func descriptor(t testing.TB, text string) acl.Descriptor {
	t.Helper()
	d, err := acl.Parse(text)
	if err != nil {
		t.Fatal(err)
	}
	return d
}

// samples are records of what is right in a folder, in which much says something.
func samples(t testing.TB) []*replica.Record {
	at := time.Date(2026, 3, 1, 12, 0, 0, 123456789, time.UTC)
	full := &replica.Record{Key: "beds/rose", Content: replica.Content{Version: replica.Vector{{Replica: 1, Count: 2}, {Replica: 9, Count: 1 << 40}}, Kind: replica.File, Name: "ROSE", Size: 1 << 50, Modified: at,
		Digest: chunk.Digest{1, 2, 3}, Changed: at.Add(time.Minute), By: 9, Moved: "from/where"},
		Permissions: replica.Permissions{Version: replica.Vector{{Replica: 2, Count: 7}}, Descriptor: descriptor(t, "O:BAG:BAD:(A;;FA;;;BA)"), Attributes: 1<<32 - 1, Changed: at, By: 2},
		Seen:        replica.Seen{Size: 5, Modified: at.Add(-time.Hour), ID: 1<<64 - 1, Descriptor: descriptor(t, "O:BAG:BAD:AI(A;ID;FA;;;BA)"), Attributes: 1}}
	old := &replica.Record{Key: "beds/old", Content: replica.Content{Kind: replica.Folder, Name: "Old", Modified: time.Unix(0, -1).UTC()}}
	odd := &replica.Record{Key: "beds/\xff\xfe", Content: replica.Content{Kind: replica.File, Name: "\xff\xfe", Version: full.Version}}
	return []*replica.Record{full, old, odd, {Key: "beds/nothing"}}
}

func TestRecordsComeBackAsTheyWere(t *testing.T) {
	n := &numbers{}
	list := samples(t)
	content, err := pack.Records(list, n.number)
	if err != nil {
		t.Fatal(err)
	}
	p, err := pack.Read(content)
	if err != nil || len(p.Entries) != len(list) {
		t.Fatalf("%d entries, %v", len(p.Entries), err)
	}
	if len(p.Versions) != 3 {
		t.Errorf("the versions are %q: each is to be kept once", p.Versions)
	}
	for i := range p.Entries {
		rec, err := p.Record("beds", &p.Entries[i], n.numbered)
		if err != nil || !reflect.DeepEqual(&rec, list[i]) {
			t.Errorf("packed   %+v\nunpacked %+v, %v", list[i], rec, err)
		}
	}
	if rec, err := p.Record(".", &p.Entries[0], n.numbered); err != nil || rec.Key != "rose" {
		t.Errorf("at the top: %q, %v", rec.Key, err)
	}
}

// What is usual takes little room: the digest, three times and some bytes more.
func TestRecordsAreSmall(t *testing.T) {
	var list []*replica.Record
	at := time.Date(2026, 3, 1, 12, 0, 0, 0, time.UTC)
	d := descriptor(t, "O:BAG:BAD:(A;;FA;;;BA)")
	for i := range 100 {
		name := fmt.Sprintf("file%04d.dat", i)
		list = append(list, &replica.Record{Key: "beds/" + name, Content: replica.Content{Version: replica.Vector{{Replica: 1, Count: 1}}, Kind: replica.File, Name: name, Size: 8192, Modified: at, Digest: chunk.Digest{1}, Changed: at, By: 1},
			Permissions: replica.Permissions{Version: replica.Vector{{Replica: 1, Count: 1}}, Descriptor: d, Changed: at, By: 1},
			Seen:        replica.Seen{Size: 8192, Modified: at, ID: 1e6, Descriptor: d}})
	}
	content, err := pack.Records(list, func(acl.Descriptor) (int64, error) { return 7, nil })
	if err != nil || len(content) > 130*len(list) {
		t.Errorf("%d bytes a record, %v", len(content)/len(list), err)
	}
}

func TestWhatIsBegunComesBackAsItWas(t *testing.T) {
	n := &numbers{}
	var list []pack.Begun
	for _, rec := range samples(t) {
		list = append(list, pack.Begun{Key: rec.Key, Pending: &replica.Pending{Content: rec.Content, Permissions: rec.Permissions, Staged: ".bspan/intake/" + rec.Name, Attic: rec.Moved}})
	}
	content, err := pack.AllBegun(list, n.number)
	if err != nil {
		t.Fatal(err)
	}
	back, err := pack.ReadBegun(content, n.numbered)
	if err != nil || !reflect.DeepEqual(back, list) {
		t.Errorf("packed   %+v\nunpacked %+v, %v", list, back, err)
	}
	// Servers that were updated while something was begun have it in JSON.
	back, err = pack.ReadBegun([]byte(`[{"key": "beds/rose", "pending": {"Content": {"Kind": 1, "Name": "Rose", "Size": 5}, "Staged": ".bspan/intake/u1"}}]`), n.numbered)
	if err != nil || len(back) != 1 || back[0].Key != "beds/rose" || back[0].Pending.Content.Size != 5 || back[0].Pending.Staged != ".bspan/intake/u1" {
		t.Errorf("%+v, %v", back, err)
	}
}

func TestErrors(t *testing.T) {
	broken := errors.New("the database is away")
	if _, err := pack.Records(samples(t), func(acl.Descriptor) (int64, error) { return 0, broken }); err != broken {
		t.Errorf("permissions that cannot be stored: %v", err)
	}
	n := &numbers{}
	content, err := pack.Records(samples(t), n.number)
	if err != nil {
		t.Fatal(err)
	}
	for name, content := range map[string][]byte{
		"nothing":    {},
		"no pack":    []byte("hello"),
		"cut":        content[:len(content)-1],
		"too much":   append(content[:len(content):len(content)], 0),
		"no version": []byte("\x82\x81\x63abc\x80"),
	} {
		if p, err := pack.Read(content); err == nil {
			t.Errorf("%s is read as %+v", name, p)
		}
	}
	p, err := pack.Read(content)
	if err != nil {
		t.Fatal(err)
	}
	if rec, err := p.Record("beds", &p.Entries[0], func(int64) (acl.Descriptor, error) { return acl.Descriptor{}, broken }); err != broken {
		t.Errorf("permissions that cannot be read: %+v, %v", rec, err)
	}
	if list, err := pack.ReadBegun(content, n.numbered); err == nil {
		t.Errorf("a pack of records is read as %+v", list)
	}
}

func FuzzRead(f *testing.F) {
	n := &numbers{}
	content, err := pack.Records(samples(f), n.number)
	if err != nil {
		f.Fatal(err)
	}
	begun, err := pack.AllBegun([]pack.Begun{{Key: "a", Pending: &replica.Pending{Staged: "b"}}}, n.number)
	if err != nil {
		f.Fatal(err)
	}
	for _, seed := range [][]byte{content, begun, []byte(`[]`), []byte(`[{"key":"a","pending":null}]`)} {
		f.Add(seed)
	}
	f.Fuzz(func(t *testing.T, content []byte) {
		_, _ = pack.ReadBegun(content, n.numbered)
		p, err := pack.Read(content)
		if err != nil {
			return
		}
		for i := range p.Entries {
			_, _ = p.Record("folder", &p.Entries[i], n.numbered)
		}
	})
}

func Example() {
	rose := &replica.Record{Key: "beds/rose", Content: replica.Content{Kind: replica.File, Name: "Rose", Size: 5}}
	content, err := pack.Records([]*replica.Record{rose}, nil) // it has no permissions
	if err != nil {
		fmt.Println(err)
		return
	}
	p, err := pack.Read(content)
	if err != nil {
		fmt.Println(err)
		return
	}
	rec, err := p.Record("beds", &p.Entries[0], nil)
	fmt.Println(rec.Key, strings.ToLower(rec.Kind.String()), rec.Name, rec.Size, err)
	// Output: beds/rose file Rose 5 <nil>
}
