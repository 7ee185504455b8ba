package setup

import (
	"context"
	"fmt"
	"path"
	"slices"
	"strings"

	"bridgespan/core/fault"
	"bridgespan/core/finding"
	"bridgespan/model"
	"bridgespan/service/replicas/sets"
	"bridgespan/tree"
)

// settings checks the settings of the set.
func (w *checker) settings(ctx context.Context) {
	d := w.setup
	if _, err := w.DB.ReplicaSet(ctx, d.Name); err == nil {
		w.add(finding.Fail, "name", d.Name, fmt.Sprintf("There is a replica set %s already", d.Name), "", "discard this set-up, and begin one with another name")
	} else if fault.KindOf(err) != fault.NotFound {
		w.fail("name", d.Name, err)
	}
	switch d.Permissions {
	case model.PermissionsMap:
		w.accountMap(ctx)
	case model.PermissionsLeave:
		w.pass("permissions", "", "Each replica has its own permissions")
	default:
		w.pass("permissions", "", "The permissions are the same everywhere")
	}
	limit := model.CloudRemovalLimit
	model.Take(&limit, d.RemovalLimit)
	switch {
	case limit == 0:
		w.add(finding.Warn, "removals", "", "There is no removal limit", "when somebody removes all files at an edge, they are removed everywhere", "set a limit, such as 25%")
	default:
		w.pass("removals", "", "When more than %d%% of a replica are removed within an hour, somebody has to decide", limit)
	}
	if d.Calendar == "" || d.Calendar == "full" {
		w.pass("calendar", "", "Changes are carried at any time")
	} else {
		w.pass("calendar", "", "Changes are carried by the calendar: %s", d.Calendar)
	}
}

func (w *checker) accountMap(ctx context.Context) {
	name := w.setup.AccountMap
	if name == "" {
		w.todo("permissions", "", "No account map is chosen", "choose the account map that permissions are carried through")
		return
	}
	m, err := w.DB.AccountMap(ctx, name)
	if err != nil {
		w.fail("permissions", name, err)
		return
	}
	w.pass("permissions", "", "Permissions are carried through the account map %s (%s)", m.Name, sets.Count(int64(len(m.Rules)), "rule", "rules"))
}

// edges checks the folders of the edges: where they are, and that no other set has them.
func (w *checker) edges(ctx context.Context) {
	for _, e := range w.setup.Edges {
		if e.Share == "" {
			w.todo("folder", e.Server, "No folder is chosen", "choose a share, and a folder in it")
		}
	}
	if w.open {
		return
	}
	asked := w.setup.Asked(w.setup.Name)
	asked.Replicas = slices.Clone(asked.Replicas)
	for i := range asked.Replicas {
		asked.Replicas[i].Edge = nil // the next step is about these
	}
	set, err := w.Draft(ctx, asked)
	if err == nil {
		err = w.Free(ctx, w.DB.Queries, set)
	}
	if err == nil {
		err = w.PhysicallyApart(ctx, &set)
	}
	if err != nil {
		w.blame(err)
		return
	}
	seed := set.Replicas[0].Name + " (the bucket)"
	for i := range w.setup.Edges {
		e, r := &w.setup.Edges[i], &set.Replicas[i+1]
		w.folder(ctx, e, r)
		if e.Seed {
			seed = r.Name
		}
	}
	w.pass("seed", "", "The content of %s wins the first fill", seed)
}

// blame notes a fault at a field of an edge as a failed check of that edge.
func (w *checker) blame(err error) {
	var f *fault.Error
	subject := ""
	if sets.AsFault(inDraft(err), &f) {
		var i int
		if n, _ := fmt.Sscanf(f.Field, "edges[%d].", &i); n == 1 && i < len(w.setup.Edges) {
			subject = w.setup.Edges[i].Server
		}
	}
	w.fail("folder", subject, err)
}

// folder checks the folder of an edge, and the volume under it.
func (w *checker) folder(ctx context.Context, e *model.DraftEdge, r *model.Replica) {
	space, missing, err := w.spaceOf(ctx, r)
	if err != nil {
		w.fail("folder", r.Name, err)
		return
	}
	where := path.Join(r.Share, r.Sub)
	if len(missing) > 0 {
		w.pass("folder", r.Name, "%s is created, with the permissions of the folder above", where)
	} else {
		w.pass("folder", r.Name, "%s is there", where)
	}
	switch {
	case space.Storage.System && !e.SystemVolume:
		w.add(finding.Fail, "volume", r.Name, "The folder is on the volume of the operating system", "when files fill it, the host stops", "choose a folder on another volume, or accept this one")
	case space.Storage.System:
		w.add(finding.Warn, "volume", r.Name, "The folder is on the volume of the operating system, and that was accepted", "when files fill it, the host stops", "move it to another volume later")
	case space.Total >= tree.Endless:
	default:
		w.pass("volume", r.Name, "%s of %s are free", sets.Size(space.Free), sets.Size(space.Total))
	}
}

// spaceOf is the volume under a replica, and the folders of its path that are missing.
func (w *checker) spaceOf(ctx context.Context, r *model.Replica) (space tree.Space, missing []string, err error) {
	reach, err := w.Estate.Reach(ctx, r.Server)
	if err != nil {
		return space, nil, err
	}
	defer reach.Close()
	top, err := reach.Tree(ctx, r.Share, "")
	if err != nil {
		return space, nil, w.Explain(ctx, r.Server, err)
	}
	defer top.Close()
	if space, err = top.Space(ctx); err == nil {
		missing, err = sets.MissingFolders(ctx, top, sets.OrText(r.Sub, "."))
	}
	if err != nil {
		err = w.Explain(ctx, r.Server, err)
	}
	return space, missing, err
}

// policies checks what the edges keep whole.
func (w *checker) policies(ctx context.Context) {
	set, err := w.Draft(ctx, w.setup.Asked(w.setup.Name))
	if err != nil {
		w.blame(err)
		return
	}
	for i := range w.setup.Edges {
		w.policy(ctx, &set.Replicas[i+1])
	}
}

func (w *checker) policy(ctx context.Context, r *model.Replica) {
	p := r.Edge
	if !p.HasStubs() {
		w.pass("policy", r.Name, "All files stay whole")
		return
	}
	space, _, err := w.spaceOf(ctx, r)
	if err != nil {
		w.fail("policy", r.Name, err)
		return
	}
	if f, ok := w.JudgeStubs(ctx, r); ok {
		w.checks = append(w.checks, f)
	}
	line := space.Total / 100 * int64(p.FreePercent)
	switch {
	case p.FreePercent == 0 && p.UnusedDays == 0 && p.Fill == model.FillNames:
		w.add(finding.Warn, "free-space line", r.Name, "No file becomes a stub", "contents fill the volume until it is full", "set a free-space line, such as 20%")
	case p.FreePercent > 0 && space.Free < line:
		w.add(finding.Warn, "free-space line", r.Name, fmt.Sprintf("%s are free now, and %s (%d%%) are to stay free", sets.Size(space.Free), sets.Size(line), p.FreePercent), "no content has room there until files become stubs", "lower the line, or make room on the volume")
	case p.FreePercent > 0:
		w.pass("free-space line", r.Name, "%s (%d%%) stay free: contents have %s", sets.Size(line), p.FreePercent, sets.Size(space.Free-line))
	}
	if p.KeepNewest > 0 && p.KeepNewest > space.Total-line {
		w.add(finding.Fail, "newest files", r.Name, fmt.Sprintf("%s of newest files stay whole, and the volume has room for %s", sets.Size(p.KeepNewest), sets.Size(space.Total-line)), "the free-space line could not be kept", "keep fewer, or lower the line")
	}
	if p.UnusedDays > 0 {
		w.pass("unused files", r.Name, "Files that nobody has used for %s become stubs", sets.Count(int64(p.UnusedDays), "day", "days"))
	}
	if len(p.Never) > 0 {
		w.pass("exceptions", r.Name, "Always whole: %s", strings.Join(p.Never, ", "))
	}
	if p.Prefetch != nil {
		w.pass("prefetch", r.Name, "New contents come at once: %s", strings.Join(p.Prefetch.Folders, ", "))
	}
}

// fill tells how each edge is filled first.
func (w *checker) fill(context.Context) {
	for _, e := range w.setup.Edges {
		fill := model.FillWhole
		if e.Policy != nil {
			fill = e.Policy.Fill
		}
		switch {
		case e.Seed:
			w.pass("first fill", e.Server, "Its files are uploaded to the bucket")
		case fill == model.FillNames:
			w.pass("first fill", e.Server, "All names come first, then contents: files changed last come first, up to the free-space line")
		case fill == model.FillStubs:
			w.pass("first fill", e.Server, "All names come; a content comes when it is first used")
		default:
			w.pass("first fill", e.Server, "Whole files come: each name appears when its content is there")
		}
	}
}
