package replicas

import (
	"context"
	"fmt"
	"io"
	"strings"
	"unicode/utf8"

	"bridgespan/core/account"
	"bridgespan/core/acl"
	"bridgespan/model"
	"bridgespan/service/replicas/sets"
	"bridgespan/tree"
)

// textMost is how long a file may be to be shown as text.
const textMost = 64 << 10

// CompareAttic shows what an attic keeps beside what is at its path now.
func (s *Service) CompareAttic(ctx context.Context, name string, id int64) (model.AtticComparison, error) {
	set, item, had, t, err := s.atticItem(ctx, name, id)
	if err != nil {
		return model.AtticComparison{}, err
	}
	defer t.Close()
	c := model.AtticComparison{Item: item}
	kept, keptRights, err := version(ctx, t, item.Attic)
	if err != nil {
		r, _ := sets.FindReplica(&set, item.Replica)
		return c, s.Explain(ctx, r.Server, err)
	}
	if !had.IsZero() { // what it gets back when it is restored
		keptRights = had
	}
	c.Kept = kept
	now, nowRights, err := version(ctx, t, item.Path)
	if sets.IsMissing(err) {
		return c, nil
	}
	if err != nil {
		r, _ := sets.FindReplica(&set, item.Replica)
		return c, s.Explain(ctx, r.Server, err)
	}
	c.Now = &now
	c.Rights, err = s.shifts(ctx, &set, item.Replica, keptRights, nowRights)
	return c, err
}

// version is a file as it is shown beside another one.
func version(ctx context.Context, t tree.Tree, name string) (v model.FileVersion, d acl.Descriptor, err error) {
	content, err := t.Open(ctx, name)
	if err != nil {
		return v, d, err
	}
	defer content.Close()
	e := content.Entry()
	v = model.FileVersion{Size: e.Size, Modified: e.Modified}
	if t.Capabilities().Descriptors {
		if d, err = t.Descriptor(ctx, name); err != nil {
			return v, d, err
		}
	}
	if e.Size > textMost {
		return v, d, nil
	}
	text, err := io.ReadAll(io.NewSectionReader(content, 0, e.Size))
	if err == nil && utf8.Valid(text) && !strings.ContainsRune(string(text), 0) {
		whole := string(text)
		v.Text = &whole
	}
	return v, d, err
}

// shifts says in words what accounts may do with one version and with the other.
func (s *Service) shifts(ctx context.Context, set *model.ReplicaSet, of string, kept, now acl.Descriptor) (list []string, err error) {
	var judge acl.Judge
	found := judge.Shifts(kept, now)
	if len(found) == 0 {
		return nil, nil
	}
	r, err := sets.FindReplica(set, of)
	if err != nil {
		return nil, err
	}
	reach, err := s.Estate.Reach(ctx, r.Server)
	if err != nil {
		return nil, err
	}
	defer reach.Close()
	at, err := s.People.At(ctx, reach.Server, reach.Admin())
	if err != nil {
		return nil, err
	}
	defer at.Close()
	pairs, err := s.DB.ReplicaAccounts(ctx, r.ID)
	if err != nil {
		return nil, err
	}
	ofServer := account.Swap(pairs) // from the accounts of the set
	for _, shift := range found {
		list = append(list, fmt.Sprintf("%s: %s before, %s now", s.NameOf(ctx, at, ofServer(shift.Account)), sets.LevelOf(shift.Before), sets.LevelOf(shift.After)))
	}
	return list, nil
}
