package rights

import (
	"context"
	"slices"
	"strings"

	"bridgespan/core/account"
	"bridgespan/core/acl"
	"bridgespan/model"
)

// mostPeople is how many of those who have a level are shown with why.
const mostPeople = 500

// WhoCan tells who of all users has at least a level at a place; of those with
// part in their name, unless it is "".
func (s *Service) WhoCan(ctx context.Context, path string, level acl.Level, part string) (model.WhoCan, error) {
	l, err := s.lookAt(ctx, "path", path)
	if err != nil {
		return model.WhoCan{}, err
	}
	defer l.close()
	w := model.WhoCan{Place: l.Place, Level: level, People: []model.EffectiveRights{}}
	users, missing, err := s.accounts.Everybody(ctx, l.at)
	if err != nil {
		return w, failure(l, "path", err)
	}
	w.Complete, w.Missing = missing == "", missing
	object, n := l.object(), s.names(l.at)
	var able []account.SID
	for _, u := range users {
		if !strings.Contains(strings.ToLower(u.Name), strings.ToLower(part)) {
			continue
		}
		if err := ctx.Err(); err != nil {
			return w, err
		}
		w.Looked++
		t, err := s.accounts.TokenFor(ctx, l.at, u.SID)
		if err != nil {
			return w, failure(l, "path", err)
		}
		if !object.Effective(t.Token).AtLeast(level) {
			continue
		}
		if w.Able++; len(able) < mostPeople {
			able = append(able, u.SID)
		}
	}
	if err := n.learn(ctx, able...); err != nil {
		return w, failure(l, "path", err)
	}
	for _, sid := range able {
		e, err := s.effective(ctx, l, n, sid, true)
		if err != nil {
			return w, failure(l, "path", err)
		}
		e.Reasons = granting(e.Reasons)
		w.People = append(w.People, e)
	}
	return w, nil
}

// granting keeps the reasons that grant something of the files.
func granting(list []model.RightsReason) []model.RightsReason {
	return slices.DeleteFunc(list, func(r model.RightsReason) bool {
		return !r.Granted || r.Source == acl.ByShare || r.Source == acl.ByProtocol
	})
}
