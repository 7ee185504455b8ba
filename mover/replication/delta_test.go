package replication

import (
	"bytes"
	"context"
	"math/rand/v2"
	"sync/atomic"
	"testing"

	"bridgespan/core/replica"
	"bridgespan/tree"
)

func randomText(seed uint64, size int) []byte {
	b := make([]byte, size)
	_, _ = rand.NewChaCha8([32]byte{byte(seed)}).Read(b)
	return b
}

func putBytes(t *testing.T, tr tree.Tree, name string, content []byte) {
	t.Helper()
	if _, err := tr.Put(t.Context(), name, bytes.NewReader(content), tree.PutOptions{Replace: true}); err != nil {
		t.Fatal(err)
	}
}

// Of a large file only what the receiver lacks is carried, whatever was changed
// in it; of another one in its place, all.
func TestDelta(t *testing.T) {
	p := newPair(t, openFolder(t), openFolder(t))
	var crossed atomic.Int64
	p.Pace = func(_ context.Context, _ replica.Lane, n int) error { crossed.Add(int64(n)); return nil }
	const size = 8 << 20
	first := randomText(1, size)
	putBytes(t, p.a, "large", first)
	p.settleDown()
	changed := bytes.Clone(first)
	copy(changed[3<<20:], randomText(2, 5000))
	for _, c := range []struct {
		what    string
		content []byte
		most    int64
	}{
		{"bytes changed", changed, size / 20},
		{"bytes put in", append(append(bytes.Clone(changed[:1000]), "a few more"...), changed[1000:]...), size / 20},
		{"a shorter one", changed[:size/2], size / 20},
		{"another one", randomText(3, size), size},
	} {
		crossed.Store(0)
		putBytes(t, p.a, "large", c.content)
		if done := p.settleDown(); done.Files != 1 {
			t.Errorf("%s: %+v", c.what, done)
		}
		got, err := tree.ReadFile(t.Context(), p.b, "large")
		if err != nil || !bytes.Equal(got, c.content) {
			t.Errorf("%s: the receiver has %d bytes of its own, %v", c.what, len(got), err)
		}
		if n := crossed.Load(); n > c.most || n == 0 {
			t.Errorf("%s: %d bytes crossed, at most %d should", c.what, n, c.most)
		}
	}
	if _, err := p.b.Stat(t.Context(), atticFolder); !absent(err) {
		t.Errorf("there is an attic of what was only changed: %v", err)
	}
}

// A file that people change while it is put together is not shown half old and
// half new.
func TestDeltaOfWhatChanges(t *testing.T) {
	p := newPair(t, openFolder(t), openFolder(t))
	first := randomText(4, 4<<20)
	putBytes(t, p.a, "large", first)
	p.settleDown()
	second, third := bytes.Clone(first), bytes.Clone(first)
	copy(second[1<<20:], "changed once")
	copy(third[2<<20:], "changed again")
	putBytes(t, p.a, "large", second)
	if _, err := p.Scan(t.Context(), 1); err != nil {
		t.Fatal(err)
	}
	meddled := false
	p.Pace = func(context.Context, replica.Lane, int) error {
		if !meddled {
			meddled = true
			putBytes(t, p.a, "large", third)
		}
		return nil
	}
	for range 3 {
		if _, err := p.Carry(t.Context(), p.Lanes[0], 10); err != nil {
			t.Fatal(err)
		}
		if got, err := tree.ReadFile(t.Context(), p.b, "large"); err != nil || !bytes.Equal(got, first) && !bytes.Equal(got, second) && !bytes.Equal(got, third) {
			t.Fatalf("what nobody wrote is shown, %v", err)
		}
	}
	p.settleDown()
	if got, err := tree.ReadFile(t.Context(), p.b, "large"); err != nil || !bytes.Equal(got, third) || !meddled {
		t.Errorf("in the end it is not what was written last, %v", err)
	}
}
