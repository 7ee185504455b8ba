// Package domain runs a private, real directory (a Samba domain controller) on
// loopback, for the demo and the tests: users, groups, LDAP over TLS, Kerberos
// and its own name service, all in one folder and on one address, seen by
// nobody who is not told of it.
package domain

import (
	"errors"
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"time"

	"bridgespan/core/account"
	"bridgespan/standin/process"
)

// User is an account of the domain.
type User struct {
	Name     string
	FullName string
	Password string
	// Administrator makes it a member of Domain Admins.
	Administrator bool
}

// Group is a group of the domain. Its members may be groups.
type Group struct {
	Name    string
	Note    string
	Members []string
}

// Config describes a domain. All of it is fixed at its first start.
type Config struct {
	Dir      string
	Realm    string // such as GARDEN.TEST
	Name     string // its short name, such as GARDEN
	Address  string // a loopback address of its own: directories have fixed ports
	SID      string
	Password string // of the account Administrator
	Users    []User
	Groups   []Group
}

// Controller is a running domain controller.
type Controller struct {
	Config
	samba *process.Process
}

// Programs are the programs that it needs.
func Programs() []string { return []string{"samba", "samba-tool", "samba_spnupdate"} }

// Start starts a domain, and makes it first if its folder is new.
func Start(c Config) (*Controller, error) {
	d := &Controller{Config: c}
	if err := process.CheckFree("domain "+c.Name, d.LDAP()); err != nil {
		return nil, err
	}
	_, err := os.Stat(d.path("ready"))
	fresh := errors.Is(err, os.ErrNotExist)
	if fresh {
		if err := d.provision(); err != nil {
			return nil, fmt.Errorf("make domain %s: %w", c.Name, err)
		}
	}
	if err := d.writeConf(); err != nil {
		return nil, err
	}
	if fresh {
		if err := d.run("samba_spnupdate", "-s", d.path("smb.conf")); err != nil {
			return nil, err
		}
	}
	d.samba, err = process.Start("domain "+c.Name, d.command("samba", "-i", "--no-process-group", "-M", "single", "-s", d.path("smb.conf")), d.path("log/samba.out"))
	if err != nil {
		return nil, err
	}
	if err := d.awaitReady(fresh); err != nil {
		d.Stop()
		return nil, fmt.Errorf("%w; its logs are in %s", err, d.path("log"))
	}
	return d, os.WriteFile(d.path("ready"), nil, 0o600)
}

// awaitReady waits until every service that members need answers, and makes
// the accounts of a new domain.
func (d *Controller) awaitReady(fresh bool) error {
	for _, port := range []string{"636", "88", "445", "135", "53"} {
		if err := d.samba.Await(process.Dial(net.JoinHostPort(d.Address, port)), 60*time.Second); err != nil {
			return err
		}
	}
	if !fresh {
		return nil
	}
	return d.makeAccounts()
}

// LDAP is where the directory answers over TLS, as host:port.
func (d *Controller) LDAP() string { return net.JoinHostPort(d.Address, "636") }

// CA is the file with the certificate that vouches for it, in PEM.
func (d *Controller) CA() string { return d.path("tls/ca.pem") }

// Host is the name of the controller in its own name service.
func (d *Controller) Host() string { return "dc." + strings.ToLower(d.Realm) }

// UserName is the name of an account for signing in to the directory.
func (d *Controller) UserName(name string) string { return name + "@" + strings.ToLower(d.Realm) }

// DomainSID is the SID of the domain.
func (d *Controller) DomainSID() account.SID { return account.MustSID(d.SID) }

// Stop ends everything that the domain started.
func (d *Controller) Stop() {
	if d.samba != nil {
		d.samba.Stop(5 * time.Second)
		d.samba = nil
	}
	process.End(d.Dir, "samba", "smbd", "winbindd", "samba-dcerpcd", "rpcd_")
}

// PID is the process id of the controller, or 0 when it does not run.
func (d *Controller) PID() int {
	if d.samba == nil {
		return 0
	}
	return d.samba.PID()
}

func (d *Controller) path(name string) string { return filepath.Join(d.Dir, name) }

// Wrappers are the environment in which a program sees this domain's name
// service and Kerberos, and private accounts below dir (passwd, group, hosts,
// wb), instead of the host's.
func (d *Controller) Wrappers(dir string) []string {
	return []string{
		"LD_PRELOAD=libnss_wrapper.so libresolv_wrapper.so",
		"NSS_WRAPPER_PASSWD=" + filepath.Join(dir, "passwd"), "NSS_WRAPPER_GROUP=" + filepath.Join(dir, "group"), "NSS_WRAPPER_HOSTS=" + filepath.Join(dir, "hosts"),
		"RESOLV_WRAPPER_CONF=" + d.path("resolv.conf"), "KRB5_CONFIG=" + d.path("krb5.conf"),
		"NSS_WRAPPER_MODULE_SO_PATH=" + process.WinbindModule(), "NSS_WRAPPER_MODULE_FN_PREFIX=winbind",
		"SELFTEST_WINBINDD_SOCKET_DIR=" + filepath.Join(dir, "wb"),
	}
}

// HostLine is the line of a hosts file that names the controller.
func (d *Controller) HostLine() string { return fmt.Sprintf("%s %s dc\n", d.Address, d.Host()) }

func (d *Controller) command(name string, args ...string) *exec.Cmd {
	cmd := exec.Command(name, args...)
	cmd.Env = append(os.Environ(), d.Wrappers(d.Dir)...)
	return cmd
}

func (d *Controller) run(name string, args ...string) error {
	out, err := d.command(name, args...).CombinedOutput()
	if err != nil {
		return fmt.Errorf("%s: %w: %s", name, err, strings.TrimSpace(string(out)))
	}
	return nil
}
