package fileserver

import (
	"fmt"
	"os"
	"slices"
	"strings"
	"time"
)

// prepare makes the folders and the private account files of a new server.
func (s *Server) prepare() error {
	for _, dir := range []string{"private", "lock", "state", "cache", "pid", "ncalrpc", "log", "wb", "data"} {
		if err := os.MkdirAll(s.path(dir), 0o755); err != nil {
			return err
		}
	}
	if err := os.Chmod(s.path("private"), 0o700); err != nil {
		return err
	}
	for _, share := range s.Shares {
		if err := os.MkdirAll(s.SharePath(share.Name), 0o777); err != nil {
			return err
		}
		if err := s.giveToAdministrator(s.SharePath(share.Name)); err != nil {
			return err
		}
		// Past the umask: who may do what is decided by the descriptors alone.
		if err := os.Chmod(s.SharePath(share.Name), 0o777); err != nil {
			return err
		}
	}
	if err := os.WriteFile(s.path("passwd"), []byte(s.passwd()), 0o644); err != nil {
		return err
	}
	return os.WriteFile(s.path("group"), []byte(s.group()), 0o644)
}

// giveToAdministrator makes the administrator the owner of a new share's
// folder, so that they can set its first permissions over SMB.
func (s *Server) giveToAdministrator(dir string) error {
	if s.Owner != 0 {
		return os.Chown(dir, firstDomainID+s.Owner, firstID)
	}
	for _, a := range s.Accounts {
		if a.Administrator {
			return os.Chown(dir, firstID+a.RID, firstID)
		}
	}
	return nil
}

// Unix ids of the private accounts, and of those of the domain; they exist
// inside the name-service wrapper only.
const (
	firstID       = 20000
	firstDomainID = 200000
)

// join makes the server a member of its domain, if it has one.
func (s *Server) join() error {
	if s.Domain == nil {
		return nil
	}
	if err := os.WriteFile(s.path("hosts"), []byte(s.Domain.HostLine()+fmt.Sprintf("%s %s.%s %s\n", s.Address, s.Name, strings.ToLower(s.Domain.Realm), s.Name)), 0o644); err != nil {
		return err
	}
	// The password goes in by the environment: everybody can see the arguments of a program.
	cmd := s.command("net", "ads", "join", "-s", s.path("smb.conf"), "-S", s.Domain.Host(), "-U", "Administrator", "--no-dns-updates")
	cmd.Env = append(cmd.Env, "PASSWD="+s.Domain.Password)
	if out, err := cmd.CombinedOutput(); err != nil {
		return fmt.Errorf("join %s to domain %s: %w: %s", s.Name, s.Domain.Name, err, strings.TrimSpace(string(out)))
	}
	return nil
}

// role is the part of the configuration that says whether the server is a
// member or stands alone.
func (s *Server) role() string {
	if s.Domain == nil {
		return "\tworkgroup = ALONE\n\tserver role = standalone server\n"
	}
	return fmt.Sprintf("\tworkgroup = %[1]s\n\trealm = %[2]s\n\tsecurity = ads\n\tserver role = member server\n\tpassword server = %[3]s\n"+
		"\tkerberos method = secrets only\n\tidmap config %[1]s : backend = rid\n\tidmap config %[1]s : range = %[4]d-299999\n",
		s.Domain.Name, s.Domain.Realm, s.Domain.Host(), firstDomainID)
}

func (s *Server) passwd() string {
	var b strings.Builder
	b.WriteString("root:x:0:0::/root:/bin/false\nnobody:x:65534:65534::/:/bin/false\n")
	for _, a := range s.Accounts {
		fmt.Fprintf(&b, "%s:x:%d:%d::/:/bin/false\n", a.Name, firstID+a.RID, firstID)
	}
	return b.String()
}

func (s *Server) group() string {
	var b strings.Builder
	fmt.Fprintf(&b, "root:x:0:\nnogroup:x:65534:\neveryone-here:x:%d:\n", firstID)
	for _, g := range s.Groups {
		var members []string
		for _, a := range s.Accounts {
			if slices.Contains(a.Groups, g.Name) {
				members = append(members, a.Name)
			}
		}
		fmt.Fprintf(&b, "%s:x:%d:%s\n", g.Name, firstID+g.RID, strings.Join(members, ","))
	}
	return b.String()
}

// makeAccounts makes the SMB side of the private accounts. winbindd must run.
func (s *Server) makeAccounts() error {
	conf := s.path("smb.conf")
	var steps [][]string
	for _, g := range s.Groups {
		steps = append(steps, []string{"", "net", "-s", conf, "groupmap", "add", fmt.Sprintf("sid=%s-%d", s.SID, g.RID),
			"ntgroup=" + g.Name, "unixgroup=" + g.Name, "type=local"})
	}
	for _, a := range s.Accounts {
		twice := a.Password + "\n" + a.Password + "\n"
		steps = append(steps, []string{twice, "pdbedit", "-s", conf, "-a", "-t", "-u", a.Name, "-U", fmt.Sprintf("%s-%d", s.SID, a.RID)})
	}
	steps = append(steps, []string{"", "net", "-s", conf, "sam", "createbuiltingroup", "Administrators"})
	for _, a := range s.Accounts {
		if a.Administrator {
			steps = append(steps, []string{"", "net", "-s", conf, "sam", "addmem", `BUILTIN\Administrators`, s.Name + `\` + a.Name})
		}
	}
	if s.Domain != nil {
		steps = append(steps, []string{"", "net", "-s", conf, "sam", "addmem", `BUILTIN\Administrators`, s.Domain.Name + `\Domain Admins`})
	}
	for _, step := range steps {
		if err := s.persist(step); err != nil {
			return err
		}
	}
	return nil
}

// persist runs a step, and again for a while when it does not find an account
// yet that an earlier step made.
func (s *Server) persist(step []string) error {
	for deadline := time.Now().Add(10 * time.Second); ; time.Sleep(100 * time.Millisecond) {
		err := s.run(step[0], step[1], step[2:]...)
		if err == nil || !slices.Contains(step, "addmem") || time.Now().After(deadline) {
			return err
		}
	}
}

// writeConf writes the configuration, at every start, since the address may have changed.
func (s *Server) writeConf() error {
	var b strings.Builder
	fmt.Fprintf(&b, `# Written by Bridge Span at every start; changes are lost.
[global]
	netbios name = %[1]s
	server string = %[1]s
%[6]s	passdb backend = tdbsam:%[2]s/private/passdb.tdb
	private dir = %[2]s/private
	lock directory = %[2]s/lock
	state directory = %[2]s/state
	cache directory = %[2]s/cache
	pid directory = %[2]s/pid
	ncalrpc dir = %[2]s/ncalrpc
	winbindd socket directory = %[2]s/wb
	log file = %[2]s/log/%%m.log
	max log size = 1000
	interfaces = %[3]s/8
	bind interfaces only = yes
	smb ports = %[4]d
	disable netbios = yes
	server min protocol = SMB2_10
	vfs objects = acl_xattr
	acl_xattr:ignore system acls = yes
	idmap config * : backend = tdb
	idmap config * : range = 100000-199999
	map to guest = %[7]s
	load printers = no
	printing = bsd
	printcap name = /dev/null
	disable spoolss = yes
	inherit acls = yes
	dos filemode = yes
	store dos attributes = yes
	unix extensions = no
	server signing = %[5]s
	server smb encrypt = %[8]s
	add share command = %[2]s/share add
	change share command = %[2]s/share change
	delete share command = %[2]s/share remove
	add user script = %[2]s/user add %%u
	delete user script = %[2]s/user remove %%u
	include = registry
	include = %[2]s/shares.conf
`, s.Name, s.Dir, s.Address, s.Port, map[bool]string{true: "mandatory", false: "auto"}[s.Signing], s.role(), map[bool]string{true: "bad user", false: "never"}[s.Guests], map[bool]string{true: "required", false: "default"}[s.Encrypting])
	if s.Fronts {
		fmt.Fprintf(&b, "\tinclude = %s\n", s.path("bspan-fronts.conf"))
	}
	return os.WriteFile(s.path("smb.conf"), []byte(b.String()), 0o644)
}

// writeShares writes the shares that the server has from its first start; the
// administrator may change them and make more.
func (s *Server) writeShares() error {
	var b strings.Builder
	for _, share := range s.Shares {
		fmt.Fprintf(&b, "[%s]\n\tpath = %s\n\tcomment = %s\n\tread only = no\n\tcreate mask = 0777\n\tdirectory mask = 0777\n",
			share.Name, s.SharePath(share.Name), share.Note)
		if s.Guests {
			b.WriteString("\tguest ok = yes\n")
		}
	}
	return os.WriteFile(s.path("shares.conf"), []byte(b.String()), 0o644)
}

// userScript is what the file server runs, as root, when its administrator
// makes or removes a user from afar. The name-service wrapper reads the file
// again when its time changes, in whole seconds.
const userScript = `#!/bin/sh
# usage: user add|remove NAME
set -eu
unset LD_PRELOAD
here=$(dirname "$0")
umask 022
exec 9>"$here/passwd.lock"
flock 9
last=$(stat -c %Y "$here/passwd")
awk -F: -v drop="$2" '$1 != drop { print }' "$here/passwd" >"$here/passwd.new"
if [ "$1" = add ]; then
	id=$(awk -F: 'BEGIN { m = 30000 } $3 > m && $3 < 60000 { m = $3 } END { print m + 1 }' "$here/passwd.new")
	echo "$2:x:$id:20000::/:/bin/false" >>"$here/passwd.new"
fi
now=$(date +%s)
[ "$now" -gt "$last" ] || now=$((last + 1))
touch -d "@$now" "$here/passwd.new"
mv "$here/passwd.new" "$here/passwd"
`

// shareScript is what the file server runs, as root, when its administrator
// makes, changes or removes a share from afar. It rewrites shares.conf as a whole.
const shareScript = `#!/bin/sh
# usage: share add|change|remove CONF NAME [PATH NOTE MOST [OFFLINE]]
set -eu
unset LD_PRELOAD
here=$(dirname "$0")
what=$1 name=$3
shift 3
exec 9>"$here/shares.lock"
flock 9
umask 022
keep=""
if [ "$what" = change ]; then
	keep=$(awk -v want="[$name]" '
		/^\[/ { inside = tolower($0) == tolower(want) }
		inside && /^\t/ && !/^\t(path|comment|max connections|csc policy) = / { print }' "$here/shares.conf")
fi
awk -v drop="[$name]" '
	/^\[/ { inside = tolower($0) == tolower(drop) }
	!inside { print }' "$here/shares.conf" >"$here/shares.new"
if [ "$what" != remove ]; then
	path=$(printf %s "$1" | sed -e 's/^[A-Za-z]://' -e 's,\\\\,/,g')
	[ -d "$path" ] || exit 1
	{
		printf '[%s]\n\tpath = %s\n\tcomment = %s\n' "$name" "$path" "$2"
		[ "${3:-0}" -gt 0 ] && printf '\tmax connections = %s\n' "$3"
		[ -n "${4:-}" ] && printf '\tcsc policy = %s\n' "$4"
		if [ -n "$keep" ]; then
			printf '%s\n' "$keep"
		else
			printf '\tread only = no\n\tcreate mask = 0777\n\tdirectory mask = 0777\n'
		fi
	} >>"$here/shares.new"
fi
# The server sees a change by the file's time, in whole seconds.
last=$(stat -c %Y "$here/shares.conf")
[ "$(date +%s)" -gt "$last" ] || touch -d "@$((last + 1))" "$here/shares.new"
mv "$here/shares.new" "$here/shares.conf"
`
