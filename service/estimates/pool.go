package estimates

import (
	"context"
	"fmt"
	"slices"

	"github.com/dustin/go-humanize"

	"bridgespan/core/dedup"
	"bridgespan/core/fault"
	"bridgespan/model"
)

// Pool tells what volumes would save together, and which of their shares should live
// together.
func (s *Service) Pool(ctx context.Context, asked model.NewPool) (model.DedupPool, error) {
	whole := model.NewEstimate{Policy: asked.Policy, Budget: asked.Budget}
	if err := check(&whole); err != nil {
		return model.DedupPool{}, err
	}
	p := model.DedupPool{Volumes: []model.DedupVolume{}}
	var members []dedup.Member
	for i, name := range asked.Volumes {
		field := fmt.Sprintf("volumes[%d]", i)
		v, err := s.db.DedupVolume(ctx, name)
		if err != nil {
			return p, err
		}
		if slices.ContainsFunc(p.Volumes, func(o model.DedupVolume) bool { return o.ID == v.ID }) {
			return p, fault.Field(field, "name each once", "%s is named twice", v.Name)
		}
		if i > 0 && (v.Profile != p.Volumes[0].Profile || v.Compression != p.Volumes[0].Compression) {
			return p, fault.Field(field, fmt.Sprintf("estimate it again with the profile %s, and as much compressed", p.Volumes[0].Profile), "%s was read otherwise than %s: their chunks cannot be compared", v.Name, p.Volumes[0].Name)
		}
		for _, o := range p.Volumes {
			for _, a := range o.Places {
				for _, b := range v.Places {
					if overlap(a, b) {
						return p, fault.Field(field, "leave one of them out", "%s is in both %s and %s", placeName(b), o.Name, v.Name)
					}
				}
			}
		}
		m := dedup.Member{Name: v.Name, Records: s.db.Dedup(v.ID)}
		for _, place := range v.Places {
			m.Places, m.Servers = append(m.Places, placeName(place)), append(m.Servers, place.Server)
		}
		p.Volumes, members = append(p.Volumes, v), append(members, m)
	}
	v := p.Volumes[0]
	done, err := s.turn(ctx)
	if err != nil {
		return p, err
	}
	defer done()
	p.Pooled, err = dedup.PoolVolumes(ctx, members, dedup.Policy{Profile: dedup.Profile(v.Profile), Rules: asked.Policy, Compression: dedup.Compression(v.Compression)}, whole.Budget, now())
	p.Summary = poolWords(&p)
	return p, err
}

func poolWords(p *model.DedupPool) string {
	r := &p.Pooled
	if len(p.Volumes) == 1 {
		if len(r.Common) == 0 {
			return fmt.Sprintf("The shares of %s have nothing in common: each saves as much by itself.", p.Volumes[0].Name)
		}
		return fmt.Sprintf("Most in common have %s and %s: %s.", r.Common[0].A, r.Common[0].B, humanize.IBytes(uint64(r.Common[0].Bytes.Bytes)))
	}
	if r.Gain <= 0 {
		return "Kept together they would save no more than each by itself."
	}
	return fmt.Sprintf("Kept together they would take %s less than each by itself.", humanize.IBytes(uint64(r.Gain)))
}
