package estimates

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"math"
	"os"
	"path"
	"strings"

	"github.com/dustin/go-humanize"

	"bridgespan/core/dedup"
	"bridgespan/core/fault"
	"bridgespan/core/namespace"
	"bridgespan/model"
	"bridgespan/mover/pack"
	"bridgespan/records"
	"bridgespan/service/jobs"
	"bridgespan/tree"
	"bridgespan/tree/folder"
)

// proofKind is the kind of runs that prove.
const proofKind = "prove"

// proofSettings of a run.
type proofSettings struct {
	Volume int64          `json:"volume"`
	Place  int            `json:"place"`
	Inside string         `json:"inside"` // folder of the place
	Asked  model.NewProof `json:"asked"`
}

// proof is what a proof found, as it is kept.
type proof struct {
	Came      *model.ProofPoint `json:"cameTo,omitempty"`
	Skipped   int64             `json:"skipped"`
	Different []string          `json:"different"`
	Store     *dedup.Inspected  `json:"store,omitempty"`
	Kept      string            `json:"kept,omitempty"`
}

// Prove starts a proof: a folder of a volume is packed into a chunk store, taken out
// again and compared, byte for byte.
func (s *Service) Prove(ctx context.Context, name string, asked model.NewProof) (model.Proof, error) {
	v, err := s.db.DedupVolume(ctx, name)
	if err != nil {
		return model.Proof{}, err
	}
	place, inside, err := placeOf(v, asked.Folder)
	if err != nil {
		return model.Proof{}, err
	}
	if err := s.makeWorkFolder(); err != nil {
		return model.Proof{}, err
	}
	if !asked.Anyway {
		if err := s.elsewhere(ctx, "folder", "or ask for it anyway, if this one may be written to", v.Places[place]); err != nil {
			return model.Proof{}, err
		}
	}
	run, err := s.jobs.Start(ctx, proofKind, v.Name, proofSettings{v.ID, place, inside, asked})
	if err != nil {
		return model.Proof{}, err
	}
	return s.Proof(ctx, run)
}

// placeOf finds the place of a volume that a folder is in.
func placeOf(v model.DedupVolume, text string) (place int, inside string, err error) {
	const field = "folder"
	asked, err := namespace.ParseTarget(field, text)
	if err != nil {
		return 0, "", err
	}
	for i, p := range v.Places {
		if namespace.Key(p.Server) != namespace.Key(asked.Server) || namespace.Key(p.Share) != namespace.Key(asked.Share) {
			continue
		}
		sub := strings.Trim(asked.Sub, "/")
		if p.Sub == "" {
			return i, sub, nil
		}
		if rest, ok := strings.CutPrefix(sub+"/", p.Sub+"/"); ok {
			return i, strings.Trim(rest, "/"), nil
		}
	}
	return 0, "", fault.Field(field, "name a folder of "+nameOf(v.Places), "%s is not in the volume %s", text, v.Name)
}

func spaceOf(ctx context.Context, dir string) (tree.Space, error) {
	t, err := folder.Open(dir)
	if err != nil {
		return tree.Space{}, err
	}
	defer t.Close()
	return t.Space(ctx)
}

// Proof shows a proof as far as it is.
func (s *Service) Proof(ctx context.Context, id int64) (model.Proof, error) {
	var work proofSettings
	f := proof{Different: []string{}}
	r, err := s.jobs.Read(ctx, id, proofKind, &work, &f)
	if err != nil {
		return model.Proof{}, err
	}
	p := model.Proof{Run: r, Volume: r.Subject, Asked: work.Asked, Came: f.Came, Skipped: f.Skipped, Different: f.Different, Store: f.Store, Kept: f.Kept}
	if _, err := os.Stat(p.Kept); p.Kept != "" && err != nil { // it was removed since
		p.Kept = ""
	}
	p.Verdict = proofWords(&p)
	return p, nil
}

func proofWords(p *model.Proof) string {
	switch {
	case p.Came == nil:
		return "It has not come to its end."
	case len(p.Different) > 0:
		return fmt.Sprintf("%d files came out otherwise than they are: the store, or what was read, is broken.", len(p.Different))
	}
	text := fmt.Sprintf("All %s files (%s) came out as they are. The store took %s; %s were foretold, %.2f%% %s.", humanize.Comma(p.Came.Files), humanize.IBytes(uint64(p.Came.Bytes)),
		humanize.IBytes(uint64(p.Came.Real)), humanize.IBytes(uint64(p.Came.Predicted)), math.Abs(p.Came.Off), map[bool]string{true: "too many", false: "too few"}[p.Came.Off >= 0])
	if p.Skipped > 0 {
		text += fmt.Sprintf(" %s files were left alone: they have changed since they were read, or cannot be read now.", humanize.Comma(p.Skipped))
	}
	return text
}

// proving is one proof under way.
type proving struct {
	*Service
	job       *jobs.Job
	volume    model.DedupVolume
	asked     proofSettings
	tree      tree.Tree
	place     string
	estimator *dedup.Estimator
	files     []dedup.Record // of the folder, without marks
	bytes     int64
	done      int64 // bytes packed, and then taken out
	found     proof
}

// prove proves.
func (s *Service) prove(ctx context.Context, job *jobs.Job) error {
	p := &proving{Service: s, job: job, found: proof{Different: []string{}}}
	err := job.Settings(&p.asked)
	if err != nil {
		return err
	}
	if p.volume, err = s.db.DedupVolumeNumbered(ctx, p.asked.Volume); err != nil {
		return err
	}
	at := p.volume.Places[p.asked.Place]
	p.place = placeName(at)
	if p.tree, _, err = s.openPlace(ctx, at); err != nil {
		return err
	}
	defer p.tree.Close()
	if err := p.list(ctx); err != nil {
		return err
	}
	dir := s.storeFolder(job.ID)
	if err := os.RemoveAll(dir); err != nil { // of an earlier part of the run: a proof begins anew
		return err
	}
	err = p.through(ctx, dir)
	if err != nil || !p.asked.Asked.Keep {
		err = errors.Join(err, os.RemoveAll(dir))
	} else {
		p.found.Kept = dir
	}
	switch {
	case errors.Is(err, tree.ErrUnreachable):
		return fault.New(fault.Unavailable, fmt.Sprintf("when it is back, begin anew with: bspan run resume %d", job.ID), "%s stopped answering", p.place).Because(err)
	case errors.Is(err, context.Canceled):
		return jobs.ErrStopped
	case err != nil:
		return err
	}
	return job.Finish(p.found)
}

// list finds the files of the folder that were read.
func (p *proving) list(ctx context.Context) error {
	var err error
	if p.estimator, err = dedup.NewEstimator(dedup.Policy{Profile: dedup.Profile(p.volume.Profile), Compression: dedup.Compression(p.volume.Compression)}, defaultBudget, now()); err != nil {
		return err
	}
	err = p.each(ctx, func(rec dedup.Record) {
		rec.Summary.Marks = nil
		p.files = append(p.files, rec)
		p.bytes += rec.Size
	})
	if err == nil && len(p.files) == 0 {
		return fault.New(fault.Needed, "estimate the volume first, or name another folder", "nothing was read of %s", p.asked.Asked.Folder)
	}
	return err
}

// each calls do with the records of the folder's files that were read.
func (p *proving) each(ctx context.Context, do func(rec dedup.Record)) error {
	return p.db.Dedup(p.volume.ID).Each(ctx, func(rec dedup.Record) error {
		inside := p.asked.Inside == "" || strings.HasPrefix(rec.Path, p.asked.Inside+"/")
		if rec.Place == p.asked.Place && inside && rec.Unread == "" && rec.Size > 0 {
			do(rec)
		}
		return nil
	})
}

// through packs the folder, takes it out again, and compares.
func (p *proving) through(ctx context.Context, dir string) error {
	space, err := spaceOf(ctx, p.workFolder)
	if err != nil {
		return err
	}
	if need := p.bytes + p.bytes/20; space.Free < need {
		return fault.New(fault.Unavailable, "name a smaller folder, or set work_folder to a larger disk", "the work folder has %s free, and up to %s may be needed", humanize.IBytes(uint64(space.Free)), humanize.IBytes(uint64(need)))
	}
	packed, err := p.pack(ctx, dir)
	if err != nil {
		return err
	}
	if err := p.predict(ctx, packed); err != nil {
		return err
	}
	store, err := pack.Open(dir)
	if err != nil {
		return err
	}
	defer store.Close()
	came := model.ProofPoint{Run: p.job.ID, At: now(), Folder: p.asked.Asked.Folder}
	err = store.Files(func(k pack.Kept) error {
		same, changed, err := p.compare(ctx, store, k)
		switch {
		case err != nil:
			return err
		case changed:
			p.found.Skipped++
		case same:
			came.Files, came.Bytes = came.Files+1, came.Bytes+k.Size
		case len(p.found.Different) < 100:
			p.found.Different = append(p.found.Different, k.Path)
		}
		return nil
	})
	if err != nil {
		return err
	}
	inspected, err := store.Inspect()
	if err != nil {
		return err
	}
	p.found.Store = &inspected
	t := p.estimator.Totals()
	came.Predicted, came.Real = t.InPolicy.Bytes-t.Saving.Bytes, inspected.Stored
	came.Off = 100 * float64(came.Predicted-came.Real) / float64(max(came.Real, 1))
	p.found.Came = &came
	return p.change(ctx, func(tx *records.Tx) error {
		if err := tx.KeepProof(ctx, p.volume.ID, came); err != nil {
			return err
		}
		return tx.Tell(ctx, "volume", p.volume.Name, came.At)
	})
}

// pack packs the files that are as they were read, and returns their paths.
func (p *proving) pack(ctx context.Context, dir string) (packed map[string]bool, err error) {
	w, err := pack.Create(dir, dedup.Profile(p.volume.Profile))
	if err != nil {
		return nil, err
	}
	packed = map[string]bool{}
	for _, rec := range p.files {
		ok, err := p.packFile(ctx, w, rec)
		if err != nil {
			return nil, errors.Join(err, w.Abort())
		}
		if ok {
			packed[rec.Path] = true
		} else {
			p.found.Skipped++
		}
	}
	return packed, w.Close()
}

// packFile packs a file; false when it is not as it was read.
func (p *proving) packFile(ctx context.Context, w *pack.Writer, rec dedup.Record) (bool, error) {
	content, err := p.tree.Open(ctx, rec.Path)
	if err != nil {
		return false, unlessGone(ctx, err)
	}
	defer content.Close()
	if e := content.Entry(); e.Size != rec.Size || !e.Modified.Equal(rec.Modified) {
		return false, nil
	}
	stream := tree.Stream(ctx, content, 0)
	defer stream.Close()
	_, err = w.Add(path.Join(p.place, rec.Path), rec.Modified.UnixNano(), p.counted(stream))
	if errors.Is(err, tree.ErrTorn) || errors.Is(err, tree.ErrInUse) { // people are at work on it
		return false, nil
	}
	return err == nil, err
}

// unlessGone is what ends a proof of what went wrong with one file.
func unlessGone(ctx context.Context, err error) error {
	if ctx.Err() != nil {
		return ctx.Err()
	}
	if errors.Is(err, tree.ErrUnreachable) {
		return err
	}
	return nil
}

// counted tells how far the proof is: each byte is packed, and taken out.
func (p *proving) counted(r io.Reader) io.Reader {
	return io.TeeReader(r, tally(func(n int) {
		p.done += int64(n)
		p.job.Progress(int64(len(p.files)), p.done, float64(p.done)/float64(2*p.bytes))
	}))
}

// tally is told how much is written.
type tally func(n int)

// Write counts.
func (t tally) Write(b []byte) (int, error) {
	t(len(b))
	return len(b), nil
}

// predict counts what an estimate says of what was packed.
func (p *proving) predict(ctx context.Context, packed map[string]bool) error {
	err := p.each(ctx, func(rec dedup.Record) {
		if packed[rec.Path] {
			p.estimator.Count(&dedup.File{Path: path.Join(p.place, rec.Path), Inside: rec.Path, Size: rec.Size, Modified: rec.Modified, Summary: rec.Summary})
		}
	})
	return cmp.Or(err, p.estimator.Settle())
}

// compare takes a file out of the store, beside the file itself. changed is true when
// people have changed that since it was packed: then there is nothing to compare with.
func (p *proving) compare(ctx context.Context, store *pack.Store, k pack.Kept) (same, changed bool, err error) {
	name := strings.TrimPrefix(k.Path, p.place+"/")
	content, err := p.tree.Open(ctx, name)
	if err != nil {
		return false, true, unlessGone(ctx, err)
	}
	defer content.Close()
	if e := content.Entry(); e.Size != k.Size || e.Modified.UnixNano() != k.Modified {
		return false, true, nil
	}
	stream := tree.Stream(ctx, content, 0)
	defer stream.Close()
	err = store.Restore(k, &besides{r: p.counted(stream)})
	if !errors.Is(err, pack.ErrStore) && !errors.Is(err, errDiffers) {
		return err == nil, false, err
	}
	still, err := tree.Unchanged(ctx, p.tree, name, content)
	return false, !still, err
}

var errDiffers = errors.New("it differs")

// besides compares what is written to it with what a reader holds.
type besides struct {
	r      io.Reader
	buffer []byte
}

func (b *besides) Write(p []byte) (int, error) {
	if cap(b.buffer) < len(p) {
		b.buffer = make([]byte, len(p))
	}
	there := b.buffer[:len(p)]
	if _, err := io.ReadFull(b.r, there); err != nil {
		if errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF) || errors.Is(err, tree.ErrTorn) {
			return 0, errDiffers
		}
		return 0, err
	}
	if string(there) != string(p) {
		return 0, errDiffers
	}
	return len(p), nil
}
