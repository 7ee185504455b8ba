package client

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"net/url"

	"bridgespan/core/finding"
	"bridgespan/core/namespace"
	"bridgespan/model"
)

// Sign-in.

// Setup makes the first administrator.
func (c *Client) Setup(ctx context.Context, s model.Setup) error {
	_, err := add[any](ctx, c, s, "setup")
	return err
}

// Login gets a token and keeps it in c.
func (c *Client) Login(ctx context.Context, name, password, label string) (model.Token, error) {
	t, err := add[model.Token](ctx, c, model.NewToken{SignIn: model.SignIn{Name: name, Password: password}, Label: label}, "tokens")
	if err == nil {
		c.Token = t.Token
	}
	return t, err
}

// Session is who is signed in.
func (c *Client) Session(ctx context.Context) (model.Session, error) {
	s, _, err := get[model.Session](ctx, c, nil, "session")
	return s, err
}

// Logout ends the token.
func (c *Client) Logout(ctx context.Context) error {
	_, _, err := do[any](ctx, c, request{method: http.MethodDelete, path: []string{"session"}})
	return err
}

// Users.

// Users lists users.
func (c *Client) Users(ctx context.Context) ([]model.User, error) {
	return all[model.User](ctx, c, "users")
}

// AddUser adds a user.
func (c *Client) AddUser(ctx context.Context, u model.NewUser) (model.User, error) {
	return add[model.User](ctx, c, u, "users")
}

// EditUser changes a user.
func (c *Client) EditUser(ctx context.Context, name string, e model.EditUser) (model.User, error) {
	return change[model.User](ctx, c, e, "users", name)
}

// RemoveUser removes a user.
func (c *Client) RemoveUser(ctx context.Context, name string) error {
	return remove(ctx, c, nil, "users", name)
}

// Credentials lists sessions and tokens: one's own, those of another user, or all.
func (c *Client) Credentials(ctx context.Context, user string, everybody bool) ([]model.Credential, error) {
	query := url.Values{}
	if user != "" {
		query.Set("user", user)
	}
	if everybody {
		query.Set("all", "true")
	}
	return allWith[model.Credential](ctx, c, query, "credentials")
}

// EndCredential ends a session or token.
func (c *Client) EndCredential(ctx context.Context, id int64) error {
	_, err := send[any](ctx, c, http.MethodDelete, nil, nil, "credentials", fmt.Sprint(id))
	return err
}

// Locks lists the locks at the gateway whose path or account contains a text.
func (c *Client) Locks(ctx context.Context, filter string) ([]model.GatewayLock, error) {
	return allWith[model.GatewayLock](ctx, c, url.Values{"filter": {filter}}, "locks")
}

// EndLock ends a lock at the gateway.
func (c *Client) EndLock(ctx context.Context, id int64) error {
	_, err := send[any](ctx, c, http.MethodDelete, nil, nil, "locks", fmt.Sprint(id))
	return err
}

// Sites and legs.

// Sites lists sites.
func (c *Client) Sites(ctx context.Context) ([]model.Site, error) {
	return all[model.Site](ctx, c, "sites")
}

// AddSite adds a site.
func (c *Client) AddSite(ctx context.Context, s model.NewSite) (model.Site, error) {
	return add[model.Site](ctx, c, s, "sites")
}

// EditSite changes a site.
func (c *Client) EditSite(ctx context.Context, name string, e model.EditSite) (model.Site, error) {
	return change[model.Site](ctx, c, e, "sites", name)
}

// RemoveSite removes a site.
func (c *Client) RemoveSite(ctx context.Context, name string) error {
	return remove(ctx, c, nil, "sites", name)
}

// Legs lists the legs between sites.
func (c *Client) Legs(ctx context.Context) ([]namespace.Leg, error) {
	list, _, err := get[model.LegList](ctx, c, nil, "legs")
	return list.Legs, err
}

// Leg finds the leg between two sites.
func (c *Client) Leg(ctx context.Context, from, to string) (namespace.Leg, error) {
	return read[namespace.Leg](ctx, c, nil, "legs", from, to)
}

// SetLeg adds a leg, or changes the one that is there.
func (c *Client) SetLeg(ctx context.Context, l namespace.Leg) (namespace.Leg, error) {
	path := []string{"legs", l.From, l.To}
	_, etag, err := get[namespace.Leg](ctx, c, nil, path...)
	var refused *Error
	if err != nil && !(errors.As(err, &refused) && refused.Status == http.StatusNotFound) {
		return l, err
	}
	out, _, err := do[namespace.Leg](ctx, c, request{method: http.MethodPut, path: path, etag: etag, body: model.SetLeg{Mbit: l.Mbit, RTT: l.RTT, Cost: l.Cost, BackMbit: l.BackMbit, BackCost: l.BackCost}})
	return out, err
}

// RemoveLeg removes a leg.
func (c *Client) RemoveLeg(ctx context.Context, from, to string) error {
	return remove(ctx, c, nil, "legs", from, to)
}

// Servers and shares.

// Servers lists servers.
func (c *Client) Servers(ctx context.Context) ([]model.Server, error) {
	return all[model.Server](ctx, c, "servers")
}

// Server shows a server.
func (c *Client) Server(ctx context.Context, name string) (model.Server, error) {
	v, _, err := get[model.Server](ctx, c, nil, "servers", name)
	return v, err
}

// AddServer adds a server.
func (c *Client) AddServer(ctx context.Context, n model.NewServer) (model.Server, error) {
	return add[model.Server](ctx, c, n, "servers")
}

// EditServer changes a server.
func (c *Client) EditServer(ctx context.Context, name string, e model.EditServer) (model.Server, error) {
	return change[model.Server](ctx, c, e, "servers", name)
}

// RemoveServer removes a server.
func (c *Client) RemoveServer(ctx context.Context, name string, detach bool) error {
	return remove(ctx, c, url.Values{"detach": {fmt.Sprint(detach)}}, "servers", name)
}

// CheckServer tries a server for real.
func (c *Client) CheckServer(ctx context.Context, name string) (model.Check, error) {
	return add[model.Check](ctx, c, nil, "servers", name, "check")
}

// Shares lists the shares of a server, or of all when server is "".
func (c *Client) Shares(ctx context.Context, server string) ([]model.Share, error) {
	list, _, err := get[struct{ Shares []model.Share }](ctx, c, url.Values{"server": {server}}, "shares")
	return list.Shares, err
}

// Share looks at a share as it is now.
func (c *Client) Share(ctx context.Context, server, share string) (model.ShareDetail, error) {
	d, _, err := get[model.ShareDetail](ctx, c, nil, "servers", server, "shares", share)
	return d, err
}

// Namespaces.

// Namespaces lists namespaces.
func (c *Client) Namespaces(ctx context.Context) ([]model.Namespace, error) {
	return all[model.Namespace](ctx, c, "namespaces")
}

// Namespace shows a namespace.
func (c *Client) Namespace(ctx context.Context, name string) (model.Namespace, error) {
	n, _, err := get[model.Namespace](ctx, c, nil, "namespaces", name)
	return n, err
}

// AddNamespace adds a namespace.
func (c *Client) AddNamespace(ctx context.Context, n model.NewNamespace) (model.Namespace, error) {
	return add[model.Namespace](ctx, c, n, "namespaces")
}

// EditNamespace changes a namespace.
func (c *Client) EditNamespace(ctx context.Context, name string, e model.EditNamespace) (model.Namespace, error) {
	return change[model.Namespace](ctx, c, e, "namespaces", name)
}

// RemoveNamespace removes a namespace, with its entries when withEntries is true.
func (c *Client) RemoveNamespace(ctx context.Context, name string, withEntries bool) error {
	return remove(ctx, c, url.Values{"withEntries": {fmt.Sprint(withEntries)}}, "namespaces", name)
}

// Entries lists the entries of a namespace in order of path.
func (c *Client) Entries(ctx context.Context, name string) ([]namespace.Entry, error) {
	return all[namespace.Entry](ctx, c, "namespaces", name, "entries")
}

// EntryAt finds the entry at a path inside a namespace.
func (c *Client) EntryAt(ctx context.Context, name, path string) (namespace.Entry, error) {
	page, err := read[model.Page[namespace.Entry]](ctx, c, given("path", path), "namespaces", name, "entries")
	if err != nil {
		return namespace.Entry{}, err
	}
	return page.Items[0], nil
}

// EditEntry changes or moves an entry, which must still be as it was read.
func (c *Client) EditEntry(ctx context.Context, name string, e namespace.Entry, change model.EditEntry) (namespace.Entry, error) {
	out, _, err := do[namespace.Entry](ctx, c, c.entryRequest(http.MethodPatch, name, e, change))
	return out, err
}

// CheckLocations looks at the locations of an entry and of everything below it
// now; of the whole namespace when path is "".
func (c *Client) CheckLocations(ctx context.Context, name, path string) ([]model.LocationCheck, error) {
	found, err := send[model.LocationChecks](ctx, c, http.MethodPost, given("path", path), nil, "namespaces", name, "check")
	return found.Locations, err
}

// Export makes the document of a whole namespace, as it was right after a
// change, or as it is when asOf is 0.
func (c *Client) Export(ctx context.Context, name string, asOf int64) (namespace.Document, error) {
	query := url.Values{}
	if asOf != 0 {
		query.Set("asOf", fmt.Sprint(asOf))
	}
	return read[namespace.Document](ctx, c, query, "namespaces", name, "document")
}

// Apply makes a namespace what a document says, or rehearses that. fingerprint
// is of a rehearsal, or "".
func (c *Client) Apply(ctx context.Context, d namespace.Document, fingerprint string, rehearse bool) (model.Application, error) {
	ctx, cancel := context.WithTimeout(ctx, DocumentPatience)
	defer cancel()
	return send[model.Application](ctx, c, http.MethodPost, given("rehearse", fmt.Sprint(rehearse), "fingerprint", fingerprint), d, "documents")
}

// Return makes a namespace what it was right after a change, or rehearses that.
func (c *Client) Return(ctx context.Context, name string, change int64, fingerprint string, rehearse bool) (model.Application, error) {
	ctx, cancel := context.WithTimeout(ctx, DocumentPatience)
	defer cancel()
	return send[model.Application](ctx, c, http.MethodPost, given("to", fmt.Sprint(change), "rehearse", fmt.Sprint(rehearse), "fingerprint", fingerprint), nil, "namespaces", name, "return")
}

// History lists the newest changes of a namespace.
func (c *Client) History(ctx context.Context, name string, limit int) ([]model.Change, error) {
	page, err := read[model.Page[model.Change]](ctx, c, given("limit", fmt.Sprint(limit)), "namespaces", name, "history")
	return page.Items, err
}

// Lint tells what people will stumble over in a namespace; deep also asks the
// file servers whether anybody may come in.
func (c *Client) Lint(ctx context.Context, name string, deep bool) ([]finding.Finding, error) {
	found, err := read[model.Flaws](ctx, c, given("deep", fmt.Sprint(deep)), "namespaces", name, "lint")
	return found.Flaws, err
}

// FixFlaw mends a flaw, or rehearses that.
func (c *Client) FixFlaw(ctx context.Context, name string, f model.FixFlaw) (model.Fixed, error) {
	return send[model.Fixed](ctx, c, http.MethodPost, nil, f, "namespaces", name, "lint", "fix")
}

// Lens shows a namespace as an account sees it from a site; "" leaves either open.
// through is gateway or front.
func (c *Client) Lens(ctx context.Context, name, from, as, through string) (model.Lens, error) {
	return read[model.Lens](ctx, c, given("from", from, "as", as, "through", through), "namespaces", name, "lens")
}

// Mappings makes drives and mount points for somebody; handOut keeps that they
// were handed out.
func (c *Client) Mappings(ctx context.Context, name string, asked model.AskMappings, handOut bool) (model.Mappings, error) {
	if handOut {
		return send[model.Mappings](ctx, c, http.MethodPost, nil, asked, "namespaces", name, "mappings")
	}
	return read[model.Mappings](ctx, c, given("for", asked.For, "from", asked.From, "format", string(asked.Format)), "namespaces", name, "mappings")
}

// Handouts tells what was last handed out to whom, and what changed since.
func (c *Client) Handouts(ctx context.Context, name string) ([]model.Handout, error) {
	found, err := read[model.Handouts](ctx, c, nil, "namespaces", name, "handouts")
	return found.Handouts, err
}

// VerifyLocation finds out whether a location holds what another one holds;
// against is "" for one that is open.
func (c *Client) VerifyLocation(ctx context.Context, name string, e namespace.Entry, location int64, against string) (model.Verification, error) {
	return send[model.Verification](ctx, c, http.MethodPost, given("against", against), nil, "namespaces", name, "entries", fmt.Sprint(e.ID), "locations", fmt.Sprint(location), "verify")
}

// Verification shows a verification as far as it is.
func (c *Client) Verification(ctx context.Context, run int64) (model.Verification, error) {
	return read[model.Verification](ctx, c, nil, "verifications", fmt.Sprint(run))
}

// Health tells how the locations of an entry were found over time, latest first.
func (c *Client) Health(ctx context.Context, name string, e namespace.Entry) ([]model.HealthSpell, error) {
	found, err := read[model.HealthHistory](ctx, c, nil, "namespaces", name, "entries", fmt.Sprint(e.ID), "health")
	return found.Spells, err
}

// AddEntry adds an entry.
func (c *Client) AddEntry(ctx context.Context, name string, e model.NewEntry) (namespace.Entry, error) {
	return add[namespace.Entry](ctx, c, e, "namespaces", name, "entries")
}

// RemoveEntry removes an entry, which must still be as it was read.
func (c *Client) RemoveEntry(ctx context.Context, name string, e namespace.Entry) error {
	_, _, err := do[any](ctx, c, c.entryRequest(http.MethodDelete, name, e, nil))
	return err
}

// AddLocation adds a location to an entry, which must still be as it was read.
func (c *Client) AddLocation(ctx context.Context, name string, e namespace.Entry, l model.NewLocation) (namespace.Entry, error) {
	out, _, err := do[namespace.Entry](ctx, c, c.entryRequest(http.MethodPost, name, e, l, "locations"))
	return out, err
}

// EditLocation changes a location of an entry, which must still be as it was read.
func (c *Client) EditLocation(ctx context.Context, name string, e namespace.Entry, location int64, change model.EditLocation) (namespace.Entry, error) {
	out, _, err := do[namespace.Entry](ctx, c, c.entryRequest(http.MethodPatch, name, e, change, "locations", fmt.Sprint(location)))
	return out, err
}

// RemoveLocation removes a location of an entry, which must still be as it was read.
func (c *Client) RemoveLocation(ctx context.Context, name string, e namespace.Entry, location int64) (namespace.Entry, error) {
	out, _, err := do[namespace.Entry](ctx, c, c.entryRequest(http.MethodDelete, name, e, nil, "locations", fmt.Sprint(location)))
	return out, err
}

func (c *Client) entryRequest(method, name string, e namespace.Entry, body any, more ...string) request {
	path := append([]string{"namespaces", name, "entries", fmt.Sprint(e.ID)}, more...)
	return request{method: method, path: path, body: body, etag: fmt.Sprintf("%q", fmt.Sprint(e.Version))}
}

// Where asks where a path leads, from a site and for an account ("" for either leaves it open).
func (c *Client) Where(ctx context.Context, path, from, as string) (model.Directions, error) {
	return read[model.Directions](ctx, c, given("path", path, "from", from, "as", as), "directions")
}

// WhereNow is Where past everything that the service remembers.
func (c *Client) WhereNow(ctx context.Context, path, from, as string) (model.Directions, error) {
	return read[model.Directions](ctx, c, given("path", path, "from", from, "as", as, "fresh", "true"), "directions")
}

// WhereMay is Where, and tells what the account may do there; fresh makes it WhereNow.
func (c *Client) WhereMay(ctx context.Context, path, from, as string, fresh bool) (model.Directions, error) {
	return read[model.Directions](ctx, c, given("path", path, "from", from, "as", as, "fresh", fmt.Sprint(fresh), "rights", "true"), "directions")
}

// Changes lists the newest changes.
func (c *Client) Changes(ctx context.Context, limit int) ([]model.Change, error) {
	page, _, err := get[model.Page[model.Change]](ctx, c, url.Values{"limit": {fmt.Sprint(limit)}}, "changes")
	return page.Items, err
}

// Ready returns nil when the service can serve requests.
func (c *Client) Ready(ctx context.Context) error {
	r, err := http.NewRequestWithContext(ctx, http.MethodGet, c.Base+"/readyz", nil)
	if err != nil {
		return err
	}
	response, err := c.http().Do(r)
	if err != nil {
		return fmt.Errorf("%w at %s: %w", ErrNoAnswer, c.Base, err)
	}
	defer response.Body.Close()
	if response.StatusCode != http.StatusOK {
		return problemIn(response)
	}
	return nil
}
