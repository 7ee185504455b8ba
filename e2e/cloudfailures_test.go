package e2e

import (
	"bytes"
	"fmt"
	"os"
	"path/filepath"
	"strings"

	"bridgespan/standin/cloud"
	"bridgespan/standin/standintest"
)

// failures: the bucket is away, its quota is full, the key is revoked, and the volume of the edge is full. Each is told, nobody reads what is not
// there, and work goes on by itself when it is over.
func (s *sealedSet) failures() {
	s.Helper()
	for i := range 3 {
		s.put(fmt.Sprintf("seeds/%d.bin", i), random(2<<20))
	}
	await(s.T, "new stubs", func() bool {
		for i := range 3 {
			if _, err := os.Stat(s.at(fmt.Sprintf("seeds/%d.bin", i))); err != nil {
				return false
			}
		}
		return true
	})
	s.volumeFull()
	s.away()
	s.quotaFull()
	s.keyRevoked()
}

func (s *sealedSet) at(name string) string { return filepath.Join(s.mover.Folder, name) }

// told waits until the set says something about a failure.
func (s *sealedSet) told(what string, words ...string) {
	s.Helper()
	await(s.T, what, func() bool {
		set, err := s.e.API.ReplicaSet(s.Context(), "scans")
		if err != nil {
			return false
		}
		said := set.Summary
		for _, r := range set.Replicas {
			said += "\n" + r.Trouble
		}
		for _, l := range set.Lanes {
			said += "\n" + l.Trouble
		}
		troubles, err := s.e.API.ReplicaTroubles(s.Context(), "scans")
		for _, t := range troubles {
			said += "\n" + t.Problem
		}
		for _, w := range words {
			if !strings.Contains(said, w) {
				return false
			}
		}
		return err == nil
	})
}

// arrives waits until the bucket has as many objects as there are files.
func (s *sealedSet) arrives(what string) {
	s.Helper()
	await(s.T, what, func() bool { return len(s.objects()) == len(s.files) })
}

// unreadable reads a stub that cannot be filled: that is an error, and no zeros.
func (s *sealedSet) unreadable(what, name string) {
	s.Helper()
	if got, err := os.ReadFile(s.at(name)); err == nil || !bytes.HasPrefix(s.files[name], got) {
		s.Errorf("%s: %d bytes of %s were read, %v", what, len(got), name, err)
	}
}

func (s *sealedSet) readable(what, name string) {
	s.Helper()
	await(s.T, what+": "+name, func() bool {
		got, err := os.ReadFile(s.at(name))
		return err == nil && bytes.Equal(got, s.files[name])
	})
}

func (s *sealedSet) away() {
	s.Helper()
	s.sky.Dials().Turn(cloud.Settings{Outage: true})
	s.unreadable("while the bucket is away", "seeds/0.bin")
	s.put("seeds/meanwhile.bin", random(1<<20))
	s.told("the bucket is away", "does not answer")
	s.sky.Dials().Turn(cloud.Settings{})
	s.readable("afterwards", "seeds/0.bin")
	s.arrives("what was changed meanwhile")
}

func (s *sealedSet) quotaFull() {
	s.Helper()
	used, _, err := s.sky.Usage(s.bucket.Bucket)
	if err != nil {
		s.Fatal(err)
	}
	if err := s.sky.SetQuota(s.bucket.Bucket, used+1000); err != nil {
		s.Fatal(err)
	}
	s.put("seeds/too much.bin", random(1<<20))
	s.told("the quota is full", "space")
	if err := s.sky.SetQuota(s.bucket.Bucket, 0); err != nil {
		s.Fatal(err)
	}
	s.arrives("what had no room")
}

func (s *sealedSet) keyRevoked() {
	s.Helper()
	other := s.sky.Key
	other.Secret = "another one"
	s.sky.AddKey(other)
	s.unreadable("with a key that is revoked", "seeds/1.bin")
	s.put("seeds/unsent.bin", random(1<<20))
	s.told("the key is revoked", "access key")
	s.sky.AddKey(s.sky.Key)
	s.readable("with the key", "seeds/1.bin")
	s.arrives("what could not be sent")
}

func (s *sealedSet) volumeFull() {
	s.Helper()
	free := standintest.TakeSpace(s.T, s.at(".bspan/ballast"), 1<<20)
	s.unreadable("on a full volume", "seeds/2.bin")
	free()
	s.readable("with room", "seeds/2.bin")
}
