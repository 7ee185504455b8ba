package api

import (
	"bufio"
	"context"
	"log/slog"
	"strconv"

	"github.com/danielgtaylor/huma/v2"

	"bridgespan/model"
	"bridgespan/records"
)

// verificationRoutes are about whether replicas hold the same.
func (a *API) verificationRoutes(tags []string) {
	route(a, model.Viewer, huma.Operation{OperationID: "list-replica-verifications", Method: "GET", Path: setRoute + "/verifications", Summary: "List the latest verifications of a set, newest first", Tags: tags},
		func(ctx context.Context, in *struct {
			SetPath
			Limit int `query:"limit" minimum:"1" maximum:"100" default:"20" doc:"How many at most"`
		}) (*body[model.Page[model.ReplicaVerification]], error) {
			list, err := a.Replicas.Verifications(ctx, in.Set, in.Limit)
			return &body[model.Page[model.ReplicaVerification]]{model.Page[model.ReplicaVerification]{Items: list}}, err
		})
	route(a, model.Operator, huma.Operation{OperationID: "schedule-replica-verification", Method: "POST", Path: setRoute + "/verifications/jobs", Summary: "Save a verification that is done again and again", Tags: tags, DefaultStatus: 201},
		func(ctx context.Context, in *struct {
			SetPath
			Sent[model.ScheduleVerification]
		}) (*body[model.Job], error) {
			job, err := a.Replicas.ScheduleVerification(ctx, in.Set, in.Body)
			return &body[model.Job]{job}, err
		})
	const route1 = "/replica-verifications/{run}"
	route(a, model.Viewer, huma.Operation{OperationID: "list-verify-findings", Method: "GET", Path: route1 + "/findings", Summary: "List what a verification found, in the order in which it was", Tags: tags},
		func(ctx context.Context, in *struct {
			RunPath
			NumberedPart
			Replica     string `query:"replica" doc:"At this replica alone"`
			Kind        string `query:"kind" enum:"missing,extra,kind,size,time,permissions,owner,attributes,content,in-use" doc:"Of this kind alone"`
			Filter      string `query:"filter" maxLength:"256" doc:"Part of the path"`
			Unexplained bool   `query:"unexplained" doc:"Those alone that nothing explains"`
		}) (*body[model.Page[model.VerifyFinding]], error) {
			after, err := in.number()
			if err != nil {
				return nil, err
			}
			if in.Cursor == "" {
				after = -1
			}
			list, next, err := a.Replicas.Findings(ctx, in.Run, records.FindingsAsked{After: after, Replica: in.Replica, Kind: in.Kind, Part: in.Filter, Unexplained: in.Unexplained, Limit: in.Limit})
			page := model.Page[model.VerifyFinding]{Items: list}
			if next != 0 {
				page.Next = strconv.FormatInt(next, 10)
			}
			return &body[model.Page[model.VerifyFinding]]{page}, err
		})
	route(a, model.Viewer, huma.Operation{OperationID: "get-verify-manifest", Method: "GET", Path: route1 + "/manifest", Summary: "Get the checksums of all files, as sha256sum -c reads them, of a full verification", Tags: tags},
		func(ctx context.Context, in *RunPath) (*huma.StreamResponse, error) {
			return a.text(ctx, "text/plain; charset=utf-8", "manifest.sha256", func(w *bufio.Writer) error { return a.Replicas.Manifest(ctx, in.Run, w) })
		})
	route(a, model.Viewer, huma.Operation{OperationID: "get-verify-report", Method: "GET", Path: route1 + "/report", Summary: "Get a verification as a page that needs nothing else", Tags: tags},
		func(ctx context.Context, in *RunPath) (*huma.StreamResponse, error) {
			return a.text(ctx, "text/html; charset=utf-8", "verification.html", func(w *bufio.Writer) error { return a.Replicas.Report(ctx, in.Run, w) })
		})
}

// text answers with a text of any length. What cannot be told at all is an error;
// what fails on the way ends the text.
func (a *API) text(_ context.Context, kind, name string, write func(w *bufio.Writer) error) (*huma.StreamResponse, error) {
	return &huma.StreamResponse{Body: func(c huma.Context) {
		out := &firstWrite{context: c, kind: kind, name: name}
		w := bufio.NewWriterSize(out, 64<<10)
		err := write(w)
		if err == nil {
			err = w.Flush()
		}
		switch {
		case err == nil && !out.begun:
			out.begin()
		case err != nil && !out.begun:
			a.refuse(c, err)
		case err != nil:
			slog.Warn("a text ended early", "name", name, "error", err)
		}
	}}, nil
}

// firstWrite says what it is when the first of it is written.
type firstWrite struct {
	context    huma.Context
	kind, name string
	begun      bool
}

func (f *firstWrite) begin() {
	f.begun = true
	f.context.SetStatus(200)
	f.context.SetHeader("Content-Type", f.kind)
	f.context.SetHeader("Content-Disposition", "inline; filename="+strconv.Quote(f.name))
}

func (f *firstWrite) Write(p []byte) (int, error) {
	if !f.begun {
		f.begin()
	}
	return f.context.BodyWriter().Write(p)
}

// probeRoutes are about how long changes are on their way.
func (a *API) probeRoutes(tags []string) {
	const probes = setRoute + "/probes"
	route(a, model.Operator, huma.Operation{OperationID: "drop-probe", Method: "POST", Path: probes, Summary: "Drop a marker file at one replica, and time it at the others", Tags: tags, DefaultStatus: 202},
		func(ctx context.Context, in *struct {
			SetPath
			Sent[model.DropProbe]
		}) (*body[model.ReplicaProbe], error) {
			p, err := a.Replicas.Probe(ctx, in.Set, in.Body)
			return &body[model.ReplicaProbe]{p}, err
		})
	route(a, model.Viewer, huma.Operation{OperationID: "list-probes", Method: "GET", Path: probes, Summary: "List the latest probes of a set, newest first", Tags: tags},
		func(ctx context.Context, in *struct {
			SetPath
			Limit int `query:"limit" minimum:"1" maximum:"200" default:"50" doc:"How many at most"`
		}) (*body[model.Page[model.ReplicaProbe]], error) {
			list, err := a.Replicas.Probes(ctx, in.Set, in.Limit)
			return &body[model.Page[model.ReplicaProbe]]{model.Page[model.ReplicaProbe]{Items: list}}, err
		})
	route(a, model.Operator, huma.Operation{OperationID: "schedule-probe", Method: "POST", Path: probes + "/jobs", Summary: "Save a probe that is dropped again and again", Tags: tags, DefaultStatus: 201},
		func(ctx context.Context, in *struct {
			SetPath
			Sent[model.ScheduleProbe]
		}) (*body[model.Job], error) {
			job, err := a.Replicas.ScheduleProbe(ctx, in.Set, in.Body)
			return &body[model.Job]{job}, err
		})
	route(a, model.Viewer, huma.Operation{OperationID: "get-probe", Method: "GET", Path: "/replica-probes/{run}", Summary: "Show a probe as far as it has arrived", Tags: tags},
		func(ctx context.Context, in *RunPath) (*body[model.ReplicaProbe], error) {
			p, err := a.Replicas.Probed(ctx, in.Run)
			return &body[model.ReplicaProbe]{p}, err
		})
}

// JobPath names a job.
type JobPath struct {
	Job int64 `path:"job" minimum:"1" maximum:"9007199254740991" doc:"Number of the job"`
}

func (a *API) jobRoutes() {
	tags := []string{"Jobs"}
	const one = "/jobs/{job}"
	route(a, model.Viewer, huma.Operation{OperationID: "list-jobs", Method: "GET", Path: "/jobs", Summary: "List work that is done again and again", Tags: tags},
		func(ctx context.Context, in *struct {
			Subject string `query:"subject" doc:"About this alone, such as the name of a replica set"`
		}) (*body[model.Page[model.Job]], error) {
			list, err := a.Jobs.Saved(ctx, in.Subject)
			return &body[model.Page[model.Job]]{model.Page[model.Job]{Items: list}}, err
		})
	route(a, model.Viewer, huma.Operation{OperationID: "get-job", Method: "GET", Path: one, Summary: "Show work that is done again and again", Tags: tags},
		func(ctx context.Context, in *JobPath) (*tagged[model.Job], error) {
			job, err := a.Jobs.SavedJob(ctx, in.Job)
			return &tagged[model.Job]{etag(job.Version), job}, err
		})
	change(a, model.Operator, huma.Operation{OperationID: "edit-job", Method: "PATCH", Path: one, Summary: "Change when work is done, or whether", Tags: tags},
		func(ctx context.Context, in *struct {
			JobPath
			Guard
			Sent[model.EditJob]
		}) (*tagged[model.Job], error) {
			version, err := in.version()
			if err != nil {
				return nil, err
			}
			job, err := a.Jobs.EditJob(ctx, in.Job, version, in.Body)
			return &tagged[model.Job]{etag(job.Version), job}, err
		})
	change(a, model.Operator, huma.Operation{OperationID: "remove-job", Method: "DELETE", Path: one, Summary: "Do work no more; its runs stay", Tags: tags, DefaultStatus: 204},
		func(ctx context.Context, in *struct {
			JobPath
			Guard
		}) (*none, error) {
			version, err := in.version()
			if err != nil {
				return nil, err
			}
			return nil, a.Jobs.RemoveJob(ctx, in.Job, version)
		})
	route(a, model.Operator, huma.Operation{OperationID: "run-job", Method: "POST", Path: one + "/run", Summary: "Do work now", Tags: tags, DefaultStatus: 202},
		func(ctx context.Context, in *JobPath) (*body[model.Run], error) {
			r, err := a.Jobs.RunJob(ctx, in.Job)
			return &body[model.Run]{r}, err
		})
}
