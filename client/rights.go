package client

import (
	"context"
	"fmt"
	"net/http"
	"net/url"

	"bridgespan/model"
)

// given makes a query of pairs, leaving out those without a value.
func given(pairs ...string) url.Values {
	query := url.Values{}
	for i := 0; i+1 < len(pairs); i += 2 {
		if pairs[i+1] != "" {
			query.Set(pairs[i], pairs[i+1])
		}
	}
	return query
}

// read gets one thing.
func read[T any](ctx context.Context, c *Client, query url.Values, path ...string) (T, error) {
	out, _, err := get[T](ctx, c, query, path...)
	return out, err
}

// send makes a request that changes something without an ETag.
func send[T any](ctx context.Context, c *Client, method string, query url.Values, body any, path ...string) (T, error) {
	out, _, err := do[T](ctx, c, request{method: method, path: path, query: query, body: body})
	return out, err
}

// Directories lists the domains.
func (c *Client) Directories(ctx context.Context) ([]model.Directory, error) {
	list, err := read[struct{ Directories []model.Directory }](ctx, c, nil, "directories")
	return list.Directories, err
}

// AddDirectory adds a domain.
func (c *Client) AddDirectory(ctx context.Context, d model.NewDirectory) (model.Directory, error) {
	return add[model.Directory](ctx, c, d, "directories")
}

// RemoveDirectory forgets a domain.
func (c *Client) RemoveDirectory(ctx context.Context, name string) error {
	return remove(ctx, c, nil, "directories", name)
}

// Accounts lists accounts of a server itself, or of a domain; one of them is "".
func (c *Client) Accounts(ctx context.Context, server, domain, part string) (model.AccountList, error) {
	return read[model.AccountList](ctx, c, given("server", server, "domain", domain, "filter", part), "accounts")
}

// Account tells all about an account as a server sees it.
func (c *Client) Account(ctx context.Context, server, name string) (model.AccountDetail, error) {
	return read[model.AccountDetail](ctx, c, nil, "servers", server, "accounts", name)
}

// ServerUse tells who uses a server.
func (c *Client) ServerUse(ctx context.Context, server string) (model.ServerUse, error) {
	return read[model.ServerUse](ctx, c, nil, "servers", server, "use")
}

// CreateLocalUser makes a user of a server itself.
func (c *Client) CreateLocalUser(ctx context.Context, server string, u model.NewLocalUser) (model.Account, error) {
	return add[model.Account](ctx, c, u, "servers", server, "users")
}

// CreateLocalGroup makes a group of a server itself.
func (c *Client) CreateLocalGroup(ctx context.Context, server, name string) (model.Account, error) {
	return add[model.Account](ctx, c, model.NewLocalGroup{Name: name}, "servers", server, "groups")
}

// RemoveLocalGroup removes a group of a server itself.
func (c *Client) RemoveLocalGroup(ctx context.Context, server, name string) error {
	_, err := send[any](ctx, c, http.MethodDelete, nil, nil, "servers", server, "groups", name)
	return err
}

// SetMember makes an account a member of a group of a server itself, or ends that.
func (c *Client) SetMember(ctx context.Context, server, group, member string, belongs bool) error {
	if belongs {
		_, err := add[any](ctx, c, model.NewMember{Account: member}, "servers", server, "groups", group, "members")
		return err
	}
	_, err := send[any](ctx, c, http.MethodDelete, nil, nil, "servers", server, "groups", group, "members", member)
	return err
}

// Rights tells who may do what with a file or folder.
func (c *Client) Rights(ctx context.Context, path string) (model.Rights, error) {
	return read[model.Rights](ctx, c, given("path", path), "rights")
}

// RightsAs tells what one account may do, and why.
func (c *Client) RightsAs(ctx context.Context, path, name string) (model.EffectiveRights, error) {
	return read[model.EffectiveRights](ctx, c, given("path", path, "account", name), "rights", "as")
}

// AccessAcross compares what a person may do with a path of a set at each replica.
func (c *Client) AccessAcross(ctx context.Context, set, path, person string) (model.AccessAcross, error) {
	return read[model.AccessAcross](ctx, c, given("path", path, "as", person), "replica-sets", set, "access")
}

// StartWhoCan finds who of all users has at least a level, as a run.
func (c *Client) StartWhoCan(ctx context.Context, asked model.AskWhoCan) (model.WhoCan, error) {
	return add[model.WhoCan](ctx, c, asked, "rights", "who-can")
}

// WhoCan shows who has a level, as far as a run found it.
func (c *Client) WhoCan(ctx context.Context, run int64) (model.WhoCan, error) {
	return read[model.WhoCan](ctx, c, nil, "rights", "who-can", fmt.Sprint(run))
}

// CompareRights tells how the permissions of two places alone differ.
func (c *Client) CompareRights(ctx context.Context, first, second string) (model.RightsComparison, error) {
	return read[model.RightsComparison](ctx, c, given("first", first, "second", second), "rights", "compare")
}

// StartComparison compares two places and everything below them, as a run.
func (c *Client) StartComparison(ctx context.Context, first, second string) (model.RightsComparison, error) {
	return add[model.RightsComparison](ctx, c, model.CompareRights{First: first, Second: second}, "rights", "comparisons")
}

// Comparison shows a comparison as far as it is.
func (c *Client) Comparison(ctx context.Context, run int64) (model.RightsComparison, error) {
	return read[model.RightsComparison](ctx, c, nil, "rights", "comparisons", fmt.Sprint(run))
}

// Differences lists where the two places of a comparison differ, with part in
// the path, from cursor on.
func (c *Client) Differences(ctx context.Context, run int64, part, cursor string, limit int) (model.Page[model.RightsDifference], error) {
	return read[model.Page[model.RightsDifference]](ctx, c, given("filter", part, "cursor", cursor, "limit", fmt.Sprint(limit)), "rights", "comparisons", fmt.Sprint(run), "differences")
}

// Browse lists a folder with permissions.
func (c *Client) Browse(ctx context.Context, path, as, part string) (model.Folder, error) {
	return read[model.Folder](ctx, c, given("path", path, "as", as, "filter", part), "browse")
}

// Explain puts a security descriptor in words.
func (c *Client) Explain(ctx context.Context, server, descriptor string) (model.Permissions, error) {
	return add[model.Permissions](ctx, c, model.ExplainDescriptor{Descriptor: descriptor}, "servers", server, "explain")
}

// ChangeRights changes permissions, or rehearses that.
func (c *Client) ChangeRights(ctx context.Context, asked model.ChangeRights) (model.RightsChange, error) {
	return add[model.RightsChange](ctx, c, asked, "rights", "changes")
}

// RightsChange shows a change of permissions.
func (c *Client) RightsChange(ctx context.Context, run int64) (model.RightsChange, error) {
	return read[model.RightsChange](ctx, c, nil, "rights", "changes", fmt.Sprint(run))
}

// UndoRights takes back what a change of permissions did.
func (c *Client) UndoRights(ctx context.Context, run int64) (model.RightsChange, error) {
	return add[model.RightsChange](ctx, c, nil, "rights", "changes", fmt.Sprint(run), "undo")
}

// ShareNow tells how a share is set, and who uses it.
func (c *Client) ShareNow(ctx context.Context, server, share string) (model.ShareNow, error) {
	return read[model.ShareNow](ctx, c, nil, "servers", server, "shares", share, "settings")
}

// CreateShare makes a share, or rehearses that.
func (c *Client) CreateShare(ctx context.Context, server string, n model.NewShare) (model.SharePlan, error) {
	return add[model.SharePlan](ctx, c, n, "servers", server, "shares")
}

// EditShare changes a share, or rehearses that.
func (c *Client) EditShare(ctx context.Context, server, share string, e model.EditShare) (model.SharePlan, error) {
	return send[model.SharePlan](ctx, c, http.MethodPatch, nil, e, "servers", server, "shares", share)
}

// RemoveShare ends a share, or rehearses that.
func (c *Client) RemoveShare(ctx context.Context, server, share string, rehearse, detach bool) (model.SharePlan, error) {
	return send[model.SharePlan](ctx, c, http.MethodDelete, given("rehearse", fmt.Sprint(rehearse), "detach", fmt.Sprint(detach)), nil, "servers", server, "shares", share)
}

// Runs lists the newest runs, of one kind unless it is "".
func (c *Client) Runs(ctx context.Context, kind string, limit int) ([]model.Run, error) {
	page, err := read[model.Page[model.Run]](ctx, c, given("kind", kind, "limit", fmt.Sprint(limit)), "runs")
	return page.Items, err
}

// Run shows how far a run is.
func (c *Client) Run(ctx context.Context, id int64) (model.Run, error) {
	return read[model.Run](ctx, c, nil, "runs", fmt.Sprint(id))
}

// StopRun stops a run.
func (c *Client) StopRun(ctx context.Context, id int64) (model.Run, error) {
	return add[model.Run](ctx, c, nil, "runs", fmt.Sprint(id), "stop")
}

// ResumeRun goes on with a run.
func (c *Client) ResumeRun(ctx context.Context, id int64) (model.Run, error) {
	return add[model.Run](ctx, c, nil, "runs", fmt.Sprint(id), "resume")
}

// RemoveRun forgets a run.
func (c *Client) RemoveRun(ctx context.Context, id int64) error {
	_, err := send[any](ctx, c, http.MethodDelete, nil, nil, "runs", fmt.Sprint(id))
	return err
}

// StartSurveys surveys shares, each by a run of its own: all of them, or none.
func (c *Client) StartSurveys(ctx context.Context, places ...model.SurveyPlace) ([]model.Run, error) {
	begun, err := add[model.Begun](ctx, c, model.NewSurveys{Places: places}, "surveys")
	return begun.Runs, err
}

// Survey shows a survey as far as it is.
func (c *Client) Survey(ctx context.Context, id int64) (model.Survey, error) {
	return read[model.Survey](ctx, c, nil, "surveys", fmt.Sprint(id))
}

// Surveys lists the newest surveys, of one share unless server is "".
func (c *Client) Surveys(ctx context.Context, server, share string, limit int) ([]model.Run, error) {
	page, err := read[model.Page[model.Run]](ctx, c, given("server", server, "share", share, "limit", fmt.Sprint(limit)), "surveys")
	return page.Items, err
}

// CompareSurveys tells what changed between two surveys.
func (c *Client) CompareSurveys(ctx context.Context, earlier, later int64) (model.SurveyComparison, error) {
	return read[model.SurveyComparison](ctx, c, nil, "surveys", fmt.Sprint(later), "since", fmt.Sprint(earlier))
}
