package dedup

import (
	"encoding/binary"
	"math"
	"math/rand/v2"
	"testing"

	"bridgespan/core/fault"
)

// madeUp is a volume of chunks that nobody has read, with what is true of it.
func madeUp(r *rand.Rand, chunks int) (files []*File, unique, packed float64) {
	marks := make([]Mark, chunks)
	for i := range marks {
		m := &marks[i]
		binary.LittleEndian.PutUint64(m.Print[:8], r.Uint64())
		binary.LittleEndian.PutUint64(m.Print[8:], r.Uint64())
		m.Length = uint32(16<<10 + r.IntN(112<<10))
		size := max(uint32(float64(m.Length)*(0.2+0.8*r.Float64())), 1)
		unique, packed = unique+float64(m.Length), packed+float64(size)
		if OfSample.measured(&m.Print) {
			m.Packed = size
		}
	}
	for i := 0; i < chunks; {
		n := min(1+r.IntN(40), chunks-i)
		f := &File{Path: "made/up", Inside: "up", Modified: now.AddDate(-1, 0, 0), Summary: Summary{Marks: append([]Mark{}, marks[i:i+n]...), Chunks: int64(n)}}
		if r.IntN(3) == 0 && i > 0 { // with something that was there before
			f.Summary.Marks = append(f.Summary.Marks, marks[r.IntN(i)])
			f.Summary.Chunks++
		}
		for _, m := range f.Summary.Marks {
			f.Size += int64(m.Length)
		}
		files, i = append(files, f), i+n
	}
	return files, unique, packed
}

// Intervals hold the truth 95 times in 100, and what is off is off both ways.
func TestSampledEstimates(t *testing.T) {
	const seeds, chunks = 300, 40_000
	var uniqueIn, packedIn, savingIn int
	var bias, spread, biasPacked float64
	for seed := range uint64(seeds) {
		r := rand.New(rand.NewPCG(seed, 7))
		files, unique, packed := madeUp(r, chunks)
		e, err := NewEstimator(Policy{Profile: Documents}, LeastBudget, now)
		if err != nil {
			t.Fatal(err)
		}
		var bytes int64
		var cost float64
		for _, f := range files {
			e.Count(f)
			bytes += f.Size
			cost += float64(f.Summary.Chunks*RefCost + FileCost + int64(len(f.Path)))
		}
		f := settled(t, e)
		if f.Sampled < 2 || f.Exact || f.InPolicy.Bytes != bytes {
			t.Fatalf("seed %d is not sampled: %+v", seed, f)
		}
		in := func(v Figure, truth float64) int {
			if float64(v.Low) <= truth && truth <= float64(v.High) {
				return 1
			}
			return 0
		}
		uniqueIn += in(f.Unique, unique)
		packedIn += in(f.Packed, packed)
		savingIn += in(f.Saving, float64(bytes)-packed-chunks*ChunkCost-cost)
		off := (float64(f.Unique.Bytes) - unique) / unique
		bias += off / seeds
		spread += off * off / seeds
		biasPacked += (float64(f.Packed.Bytes) - packed) / packed / seeds
	}
	for name, n := range map[string]int{"unique": uniqueIn, "packed": packedIn, "saving": savingIn} {
		if n < seeds*93/100 || n == seeds {
			t.Errorf("the interval of %s holds the truth %d times in %d", name, n, seeds)
		}
	}
	// Three standard errors of the mean of so many.
	if most := 3 * math.Sqrt(spread/seeds); math.Abs(bias) > most || math.Abs(biasPacked) > 2*most {
		t.Errorf("unique bytes are off by %.5f on average, packed ones by %.5f; at most %.5f", bias, biasPacked, most)
	}
}

func TestTable(t *testing.T) {
	for _, budget := range []int64{-1, 0, LeastBudget - 1, MostBudget + 1, math.MaxInt64} {
		if _, err := NewTable(budget); fault.KindOf(err) != fault.Invalid {
			t.Errorf("a budget of %d bytes: %v", budget, err)
		}
	}
	if table, err := NewTable(MostBudget); err != nil || int64(table.most) > MostBudget {
		t.Errorf("the largest budget: %v", err)
	}
	table, err := NewTable(LeastBudget)
	if err != nil {
		t.Fatal(err)
	}
	r := rand.New(rand.NewPCG(1, 2))
	marks := make([]Mark, 100_000)
	for i := range marks {
		binary.LittleEndian.PutUint64(marks[i].Print[:8], r.Uint64())
		binary.LittleEndian.PutUint64(marks[i].Print[8:], r.Uint64())
		marks[i].Length = 1
	}
	for range 3 {
		for _, m := range marks {
			table.Add(m)
		}
	}
	sampled := 0
	for _, m := range marks {
		switch refs := table.Refs(&m.Print); {
		case m.Print.Kept(table.Level()) != (refs > 0):
			t.Fatal("what is counted is not the sample")
		case refs > 0:
			if sampled++; refs != 3 {
				t.Fatalf("a print that came 3 times was counted %d times", refs)
			}
		}
	}
	if sampled != table.Prints() || table.Level() == 0 || len(table.slots) > table.most {
		t.Errorf("%d prints at level %d in %d slots, %d found", table.Prints(), table.Level(), len(table.slots), sampled)
	}
}

// Summaries of another level are counted with all others.
func TestThin(t *testing.T) {
	r := rand.New(rand.NewPCG(3, 4))
	files, unique, _ := madeUp(r, 20_000)
	for i, f := range files {
		f.Summary.Thin(uint8(i % 3))
		f.Summary.Thin(0)
	}
	e, err := NewEstimator(Policy{Profile: Documents}, 64<<20, now)
	if err != nil {
		t.Fatal(err)
	}
	for _, f := range files {
		e.Count(f)
	}
	if f := settled(t, e); f.Sampled != 4 || float64(f.Unique.Low) > unique || float64(f.Unique.High) < unique {
		t.Errorf("%+v; truly %.0f bytes", f, unique)
	}
}

// A million tiny files have so much to be kept beside them that nothing is saved; of
// those that are equal, all but one are.
func TestMillionTinyFiles(t *testing.T) {
	const files, size, pairs = 1_000_000, 100, 250_000
	e, err := NewEstimator(Policy{Profile: Documents, Compression: OfAll}, 512<<20, now)
	if err != nil {
		t.Fatal(err)
	}
	f := &File{Path: "bed/plant", Inside: "plant", Size: size, Modified: now.AddDate(-1, 0, 0), Summary: Summary{Chunks: 1, Marks: []Mark{{Length: size, Packed: size}}}}
	for i := range uint64(files) {
		m := &f.Summary.Marks[0] // the first of them come twice
		binary.BigEndian.PutUint64(m.Print[:8], (i%(files-pairs)+1)*0x9e3779b97f4a7c15)
		binary.LittleEndian.PutUint64(m.Print[8:], i%(files-pairs)) // slots are found by these
		e.Count(f)
	}
	got := settled(t, e)
	metadata := int64((files-pairs)*ChunkCost + files*(RefCost+FileCost+len("bed/plant")))
	if !got.Exact || got.Different != files-pairs || got.Unique != Exact((files-pairs)*size) || got.Metadata != metadata || got.Saving != Exact(pairs*size-metadata) {
		t.Errorf("%+v", got)
	}
}
