package domain

import (
	"fmt"
	"os"
	"os/exec"
	"strings"
)

// provision makes the database of a new domain.
func (d *Controller) provision() error {
	if err := os.RemoveAll(d.Dir); err != nil {
		return err
	}
	if err := os.MkdirAll(d.Dir, 0o755); err != nil {
		return err
	}
	for name, text := range map[string]string{
		"seed.conf":   fmt.Sprintf("[global]\n\tnetbios name = dc\n\tinterfaces = %s/8\n\tbind interfaces only = yes\n\tlog file = %s\n", d.Address, d.path("seed.log")),
		"resolv.conf": "nameserver " + d.Address + "\n",
		"krb5.conf":   d.kerberos(),
		"hosts":       d.HostLine(),
		"passwd":      "root:x:0:0::/root:/bin/false\nnobody:x:65534:65534::/:/bin/false\n",
		"group":       "root:x:0:\nnogroup:x:65534:\nusers:x:100:\n",
	} {
		if err := os.WriteFile(d.path(name), []byte(text), 0o644); err != nil {
			return err
		}
	}
	out, err := exec.Command("samba-tool", "domain", "provision", "-s", d.path("seed.conf"), "--targetdir="+d.path("dc"), "--realm="+d.Realm, "--domain="+d.Name,
		"--server-role=dc", "--dns-backend=SAMBA_INTERNAL", "--host-ip="+d.Address, "--host-name=dc", "--base-schema=2012_R2",
		"--domain-sid="+d.SID, "--adminpass="+d.Password).CombinedOutput()
	if err != nil {
		return fmt.Errorf("samba-tool: %w: %s", err, lastLines(string(out), 3))
	}
	for _, dir := range []string{"lock", "cache", "pid", "ncalrpc", "log", "wb", "run", "tls"} {
		if err := os.MkdirAll(d.path(dir), 0o755); err != nil {
			return err
		}
	}
	return d.writeCertificate()
}

func lastLines(text string, n int) string {
	lines := strings.Split(strings.TrimSpace(text), "\n")
	return strings.Join(lines[max(0, len(lines)-n):], "; ")
}

func (d *Controller) kerberos() string {
	lower := strings.ToLower(d.Realm)
	return fmt.Sprintf(`[libdefaults]
	default_realm = %[1]s
	dns_lookup_kdc = false
	dns_lookup_realm = false
	rdns = false
[realms]
	%[1]s = {
		kdc = %[2]s
		admin_server = %[2]s
	}
[domain_realm]
	.%[3]s = %[1]s
	%[3]s = %[1]s
`, d.Realm, d.Address, lower)
}

// writeConf writes the configuration, at every start, since the folder may have moved.
func (d *Controller) writeConf() error {
	text := fmt.Sprintf(`# Written by Bridge Span at every start; changes are lost.
[global]
	netbios name = DC
	realm = %[1]s
	workgroup = %[2]s
	server role = active directory domain controller
	interfaces = %[3]s/8
	bind interfaces only = yes
	private dir = %[4]s/dc/private
	state directory = %[4]s/dc/state
	binddns dir = %[4]s/dc/bind-dns
	lock directory = %[4]s/lock
	cache directory = %[4]s/cache
	pid directory = %[4]s/pid
	ncalrpc dir = %[4]s/ncalrpc
	winbindd socket directory = %[4]s/wb
	ntp signd socket directory = %[4]s/run
	log file = %[4]s/log/samba.log
	max log size = 1000
	disable netbios = yes
	server services = -dnsupdate, -ntp_signd
	tls keyfile = %[4]s/tls/key.pem
	tls certfile = %[4]s/tls/cert.pem
	tls cafile = %[4]s/tls/ca.pem
	load printers = no
	printing = bsd
	printcap name = /dev/null
	disable spoolss = yes

[sysvol]
	path = %[4]s/dc/state/sysvol
	read only = no

[netlogon]
	path = %[4]s/dc/state/sysvol/%[5]s/scripts
	read only = no
`, d.Realm, d.Name, d.Address, d.Dir, strings.ToLower(d.Realm))
	return os.WriteFile(d.path("smb.conf"), []byte(text), 0o644)
}
