package main

import (
	"bridgespan/demo"
	"bridgespan/e2e/browser"
	"errors"
)

func shots(t *browser.Tab, estate demo.Estate) error {
	err := errors.Join(t.Open(estate.Console+"/"), t.See("Sign in"), t.Type("Name", estate.User), t.Type("Password", estate.Password), t.Click("button", "Sign in"), t.See("Latest changes"))
	err = errors.Join(err, t.Open(estate.Console+"/replicas/specimens"), t.See("Removals at fern"), t.Shot("/tmp/rem1.png"))
	err = errors.Join(err, t.Click("button", "Bring them back …"), t.See("come back from the other replicas"), t.Shot("/tmp/rem2.png"))
	_, e2 := browser.Eval[bool](t, "localStorage.setItem('bspan-theme', 'dark'), true")
	err = errors.Join(err, e2, t.Open(estate.Console+"/replicas/specimens"), t.See("Removals at fern"), t.Click("button", "Remove them everywhere …"), t.See("Attics keep them"), t.Shot("/tmp/rem3.png"))
	err = errors.Join(err, t.Open(estate.Console+"/"), t.See("specimens"), t.Shot("/tmp/rem4.png"))
	return err
}
