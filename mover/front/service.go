package front

import (
	"bytes"
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"time"
)

// Service is a Samba file service on this host, by its configuration file. It is read and told of
// changes by its own tools (testparm(1), smbcontrol(1)). What is changed stands in a file of ours
// that the configuration includes; the configuration itself is left alone.
type Service struct{ Configuration string }

// Share is a share of the file service.
type Share struct {
	Name string `json:"name"`
	Path string `json:"path"`
}

// Offer is how a front's share stands at the file service.
type Offer struct {
	Service string   `json:"service"`           // what the file service calls itself
	Include string   `json:"include"`           // our file
	Missing []string `json:"missing,omitempty"` // lines that the configuration lacks
	ByHand  []string `json:"byHand,omitempty"`  // those of them that an administrator must write
	Shares  []Share  `json:"shares"`
}

// toolMost is how long the tools of the file service may take.
const toolMost = 15 * time.Second

// mostOutput is how much of a tool's answer is read.
const mostOutput = 16 << 20

func tool(ctx context.Context, name string, args ...string) ([]byte, error) {
	ctx, cancel := context.WithTimeout(ctx, toolMost)
	defer cancel()
	cmd := exec.CommandContext(ctx, name, args...)
	var out, errs limited
	cmd.Stdout, cmd.Stderr = &out, &errs
	if err := cmd.Run(); err != nil {
		said, _, _ := strings.Cut(strings.TrimSpace(errs.text.String()), "\n")
		return nil, fmt.Errorf("%s: %w: %s", name, err, said)
	}
	return out.text.Bytes(), nil
}

// limited keeps what is written, unless it is more than mostOutput: part of it would say something else.
// The buffer is a field, and not embedded: io.Copy would find its ReadFrom, which knows no bound.
type limited struct{ text bytes.Buffer }

func (l *limited) Write(p []byte) (int, error) {
	if l.text.Len()+len(p) > mostOutput {
		return 0, fmt.Errorf("it says more than %d bytes", mostOutput)
	}
	return l.text.Write(p)
}

// include is the file of ours.
func (s Service) include() string {
	return filepath.Join(filepath.Dir(s.Configuration), "bspan-fronts.conf")
}

// sections are the configuration as the file service understands it, by lower-case section and option.
func (s Service) sections(ctx context.Context) (map[string]map[string]string, []Share, error) {
	out, err := tool(ctx, "testparm", "-s", "-v", s.Configuration)
	if err != nil {
		return nil, nil, err
	}
	sections, shares := map[string]map[string]string{}, []Share{}
	var in map[string]string
	name := ""
	for line := range strings.Lines(string(out)) {
		line = strings.TrimSpace(line)
		if title, ok := strings.CutPrefix(line, "["); ok {
			name = strings.TrimSuffix(title, "]")
			in = map[string]string{}
			sections[strings.ToLower(name)] = in
			continue
		}
		option, value, ok := strings.Cut(line, "=")
		if !ok || in == nil {
			continue
		}
		option, value = strings.ToLower(strings.TrimSpace(option)), strings.TrimSpace(value)
		in[option] = value
		if option == "path" && !strings.EqualFold(name, "global") {
			shares = append(shares, Share{name, value})
		}
	}
	return sections, shares, nil
}

// Offered tells how the share of a front stands at the file service.
func (k *Keeper) Offered(ctx context.Context, share string) (o Offer, err error) {
	sections, shares, err := k.Service.sections(ctx)
	if err != nil {
		return o, err
	}
	global, section := sections["global"], sections[strings.ToLower(share)]
	o.Service, o.Include, o.Shares = global["netbios name"], k.Service.include(), shares
	if included, err := k.Service.included(); err != nil {
		return o, err
	} else if !included {
		o.ByHand = []string{"include = " + o.Include}
		o.Missing = append(o.Missing, o.ByHand...)
	}
	if section == nil || section["path"] != k.Path(share) {
		o.Missing = append(o.Missing, "["+share+"]", "path = "+k.Path(share))
	}
	for _, option := range options {
		// A share says only what is not so for all of them.
		if section == nil || !strings.EqualFold(cmp.Or(section[option[0]], global[option[0]]), option[1]) {
			o.Missing = append(o.Missing, option[0]+" = "+option[1])
		}
	}
	for _, option := range generalOptions {
		if !strings.EqualFold(global[option[0]], option[1]) {
			o.Missing = append(o.Missing, "[global] "+option[0]+" = "+option[1])
		}
	}
	return o, nil
}

// included reports whether the configuration includes our file.
func (s Service) included() (bool, error) {
	text, err := os.ReadFile(s.Configuration)
	if err != nil {
		return false, err
	}
	for line := range strings.Lines(string(text)) {
		option, value, _ := strings.Cut(line, "=")
		if strings.EqualFold(strings.TrimSpace(option), "include") && strings.TrimSpace(value) == s.include() {
			return true, nil
		}
	}
	return false, nil
}

// Offer lets the file service offer the share of a front.
func (k *Keeper) Offer(ctx context.Context, share, note string) (Offer, error) {
	k.configuring.Lock()
	defer k.configuring.Unlock()
	_, shares, err := k.Service.sections(ctx)
	if err != nil {
		return Offer{}, err
	}
	for _, other := range shares {
		if strings.EqualFold(other.Name, share) && other.Path != k.Path(share) {
			return Offer{}, fmt.Errorf("%w: the file service has a share %s of %s already", fs.ErrExist, other.Name, other.Path)
		}
	}
	err = k.rewrite(ctx, func(list []offered) []offered {
		list = slices.DeleteFunc(list, func(o offered) bool { return strings.EqualFold(o.Share, share) })
		return append(list, offered{share, note})
	})
	if err != nil {
		return Offer{}, err
	}
	o, err := k.Offered(ctx, share)
	if err == nil && len(o.Missing) > 0 {
		err = fmt.Errorf("the file service does not offer it: its configuration lacks %s", strings.Join(o.Missing, "; "))
	}
	return o, err
}

// Withdraw takes the share of a front away from the file service.
func (k *Keeper) Withdraw(ctx context.Context, share string) error {
	k.configuring.Lock()
	defer k.configuring.Unlock()
	return k.rewrite(ctx, func(list []offered) []offered {
		return slices.DeleteFunc(list, func(o offered) bool { return strings.EqualFold(o.Share, share) })
	})
}

// offered is a front that the file service is to offer.
type offered struct {
	Share string `json:"share"`
	Note  string `json:"note"`
}

// rewrite changes which fronts the file service offers. When the file service does not like what
// it would read, what was there before stays.
func (k *Keeper) rewrite(ctx context.Context, change func([]offered) []offered) error {
	kept := filepath.Join(k.State, "offered.json")
	before, err := k.offers(kept)
	if err != nil {
		return err
	}
	if err := k.store(kept, change(slices.Clone(before))); err != nil {
		return err
	}
	if _, err := tool(ctx, "testparm", "-s", k.Service.Configuration); err != nil {
		return errors.Join(err, k.store(kept, before))
	}
	_, err = tool(ctx, "smbcontrol", "--configfile="+k.Service.Configuration, "smbd", "reload-config")
	return err
}

// offers are the fronts that the file service offers.
func (k *Keeper) offers(kept string) (list []offered, err error) {
	text, err := os.ReadFile(kept)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	if err == nil {
		err = json.Unmarshal(text, &list)
	}
	if err != nil {
		return nil, fmt.Errorf("%s: %w", kept, err)
	}
	return list, nil
}

// store keeps which fronts the file service offers, and writes our file.
func (k *Keeper) store(kept string, list []offered) error {
	text, err := json.Marshal(list)
	if err != nil {
		return err
	}
	return errors.Join(os.MkdirAll(k.State, 0o700), replace(kept, text, 0o600), replace(k.Service.include(), k.render(list), 0o644))
}

// render writes our file.
func (k *Keeper) render(list []offered) []byte {
	var b strings.Builder
	b.WriteString("# The fronts of Bridge Span. Written by its mover: changes are lost.\n")
	if len(list) == 0 {
		return []byte(b.String())
	}
	b.WriteString("[global]\n")
	for _, option := range generalOptions {
		fmt.Fprintf(&b, "\t%s = %s\n", option[0], option[1])
	}
	for _, o := range list {
		fmt.Fprintf(&b, "[%s]\n\tpath = %s\n\tcomment = %s\n", o.Share, k.Path(o.Share), oneLine(o.Note))
		for _, option := range options {
			fmt.Fprintf(&b, "\t%s = %s\n", option[0], option[1])
		}
	}
	return []byte(b.String())
}

// oneLine keeps a note on its line: what ends a line, or goes on with it, or stands for something is left out.
func oneLine(note string) string {
	return strings.Map(func(r rune) rune {
		if r < ' ' || r == 0x7f || strings.ContainsRune(`\%;#`, r) {
			return ' '
		}
		return r
	}, note)
}

// replace puts a file in the place of another one, as a whole.
func replace(file string, text []byte, mode fs.FileMode) error {
	if err := os.WriteFile(file+".new", text, mode); err != nil {
		return err
	}
	if err := os.Chmod(file+".new", mode); err != nil {
		return err
	}
	return os.Rename(file+".new", file)
}
