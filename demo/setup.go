package demo

import (
	"context"
	"os"

	"bridgespan/client"
	"bridgespan/core/acl"
	"bridgespan/model"
)

// setUp does what an administrator does first, through the API.
func (d *Demo) setUp(ctx context.Context) error {
	api, err := d.firstSignIn(ctx)
	if err != nil {
		return err
	}
	for _, s := range sites {
		if _, err := api.AddSite(ctx, s); err != nil {
			return err
		}
	}
	for _, l := range legs {
		if _, err := api.SetLeg(ctx, l); err != nil {
			return err
		}
	}
	if err := d.addDirectory(ctx, api); err != nil {
		return err
	}
	for _, s := range servers {
		if _, err := api.AddServer(ctx, model.NewServer{Name: s.name, Site: s.site, Address: s.reached(), Port: d.SMBPort, Domain: s.domain(), Account: administrator, Password: d.password(administrator), Note: s.note}); err != nil {
			return err
		}
		if _, err := api.CheckServer(ctx, s.name); err != nil {
			return err
		}
	}
	if err := d.setShares(ctx, api); err != nil {
		return err
	}
	if _, err := api.AddNamespace(ctx, model.NewNamespace{Name: space, Note: "Everything that people at the trust open"}); err != nil {
		return err
	}
	for _, e := range entries {
		if _, err := api.AddEntry(ctx, space, model.NewEntry{Path: e.path, Kind: "signpost", Note: e.note, Locations: e.locations}); err != nil {
			return err
		}
	}
	// Surveys go on by themselves; each knows by now what leads to its share.
	var all []model.SurveyPlace
	for _, s := range servers {
		all = append(all, model.SurveyPlace{Server: s.name})
	}
	if _, err = api.StartSurveys(ctx, all...); err != nil {
		return err
	}
	if _, err = api.AddMigration(ctx, move); err != nil {
		return err
	}
	if err := d.keepLessons(ctx, api); err != nil {
		return err
	}
	if err := d.keepWeather(ctx, api); err != nil {
		return err
	}
	if err := d.keepLedgers(ctx, api); err != nil {
		return err
	}
	return d.keepSpecimens(ctx, api)
}

// setShares sets the permissions of shares that differ from the usual.
func (d *Demo) setShares(ctx context.Context, api *client.Client) error {
	for _, s := range servers {
		let := []model.ShareGrant{{Account: "Administrators", Level: acl.Full}}
		if _, err := api.EditShare(ctx, s.name, whole.Name, model.EditShare{ShareSettings: model.ShareSettings{Access: let}}); err != nil {
			return err
		}
	}
	// A copy that nobody is to write to, although its files would allow it.
	_, err := api.EditShare(ctx, "heather", "education", model.EditShare{ShareSettings: model.ShareSettings{ReadOnly: true}})
	return err
}

// addDirectory tells the service whom to ask about the domain's accounts.
func (d *Demo) addDirectory(ctx context.Context, api *client.Client) error {
	ca, err := os.ReadFile(d.Domain.CA())
	if err != nil {
		return err
	}
	_, err = api.AddDirectory(ctx, model.NewDirectory{Address: d.Domain.Address, Account: d.Domain.UserName(administrator), Password: d.password(administrator), CA: string(ca), Note: "The trust's own"})
	return err
}

func (d *Demo) firstSignIn(ctx context.Context) (*client.Client, error) {
	token, err := os.ReadFile(d.path("setup-token"))
	if err != nil {
		return nil, err
	}
	api := &client.Client{Base: d.Estate.Console}
	if err := api.Setup(ctx, model.Setup{Token: string(token), Name: d.Estate.User, Password: d.Estate.Password}); err != nil {
		return nil, err
	}
	if err := os.Remove(d.path("setup-token")); err != nil {
		return nil, err
	}
	if err := os.WriteFile(d.path("sign-in"), []byte(d.Estate.Password+"\n"), 0o600); err != nil {
		return nil, err
	}
	_, err = api.Login(ctx, d.Estate.User, d.Estate.Password, "set-up of the demo")
	return api, err
}
