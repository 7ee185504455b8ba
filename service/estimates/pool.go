package estimates

import (
	"context"
	"fmt"
	"slices"

	"github.com/dustin/go-humanize"

	"bridgespan/core/dedup"
	"bridgespan/core/fault"
	"bridgespan/model"
	"bridgespan/service/jobs"
)

// poolKind is the kind of runs that count what volumes have in common.
const poolKind = "pool"

// StartPool starts to count what volumes would save together, and which of their
// shares should live together.
func (s *Service) StartPool(ctx context.Context, asked model.NewPool) (model.DedupPool, error) {
	if err := checkCounting(&asked.Counting); err != nil {
		return model.DedupPool{}, err
	}
	volumes, err := s.poolable(ctx, asked.Volumes)
	if err != nil {
		return model.DedupPool{}, err
	}
	if err := s.mayCount(ctx, asked.Counting, volumes...); err != nil {
		return model.DedupPool{}, err
	}
	var names []string
	for _, v := range volumes {
		names = append(names, v.Name)
	}
	asked.Volumes = names
	subject := names[0]
	if more := len(names) - 1; more > 0 {
		subject = fmt.Sprintf("%s and %d more", names[0], more)
	}
	run, err := s.jobs.Start(ctx, poolKind, subject, asked)
	if err != nil {
		return model.DedupPool{}, err
	}
	return s.Pool(ctx, run)
}

// Pool shows what volumes would save together, once that is counted.
func (s *Service) Pool(ctx context.Context, id int64) (model.DedupPool, error) {
	var p model.DedupPool
	var err error
	p.Run, err = s.jobs.Read(ctx, id, poolKind, &p.Asked, &p.Pooled)
	if p.Pooled != nil {
		p.Summary = poolWords(&p)
	}
	return p, err
}

// poolable are volumes that can be counted together.
func (s *Service) poolable(ctx context.Context, names []string) (list []model.DedupVolume, err error) {
	for i, name := range names {
		field := fmt.Sprintf("volumes[%d]", i)
		v, err := s.db.DedupVolume(ctx, name)
		if err != nil {
			return nil, err
		}
		if slices.ContainsFunc(list, func(o model.DedupVolume) bool { return o.ID == v.ID }) {
			return nil, fault.Field(field, "name each once", "%s is named twice", v.Name)
		}
		if i > 0 && (v.Profile != list[0].Profile || v.Compression != list[0].Compression) {
			return nil, fault.Field(field, fmt.Sprintf("estimate it again with the profile %s, and as much compressed", list[0].Profile), "%s was read otherwise than %s: their chunks cannot be compared", v.Name, list[0].Name)
		}
		for _, o := range list {
			for _, a := range o.Places {
				for _, b := range v.Places {
					if overlap(a, b) {
						return nil, fault.Field(field, "leave one of them out", "%s is in both %s and %s", placeName(b), o.Name, v.Name)
					}
				}
			}
		}
		list = append(list, v)
	}
	return list, nil
}

// countPool counts.
func (s *Service) countPool(ctx context.Context, job *jobs.Job) error {
	var asked model.NewPool
	if err := job.Settings(&asked); err != nil {
		return err
	}
	volumes, err := s.poolable(ctx, asked.Volumes)
	if err != nil {
		return err
	}
	var members []dedup.Member
	for _, v := range volumes {
		m := dedup.Member{Name: v.Name, Records: s.db.Dedup(v.ID)}
		m.Places, m.Servers = namesOf(&v)
		members = append(members, m)
	}
	done, err := s.turn(ctx)
	if err != nil {
		return stopped(err)
	}
	defer done()
	pooled, err := dedup.PoolVolumes(ctx, members, policyFor(&volumes[0], asked.Policy), s.means(asked.Counting, passes(job)), now())
	if err != nil {
		return stopped(s.countingFault(err))
	}
	return job.Finish(&pooled)
}

func poolWords(p *model.DedupPool) string {
	r := p.Pooled
	if len(r.Alone) == 1 {
		if len(r.Common) == 0 {
			return fmt.Sprintf("The shares of %s have nothing in common: each saves as much by itself.", r.Alone[0].Name)
		}
		return fmt.Sprintf("Most in common have %s and %s: %s.", r.Common[0].A, r.Common[0].B, humanize.IBytes(uint64(r.Common[0].Bytes.Bytes)))
	}
	if r.Gain <= 0 {
		return "Kept together they would save no more than each by itself."
	}
	return fmt.Sprintf("Kept together they would take %s less than each by itself.", humanize.IBytes(uint64(r.Gain)))
}
