package main

import (
	"cmp"
	"context"
	"fmt"
	"os"
	"strings"

	"github.com/dustin/go-humanize"
	"github.com/dustin/go-humanize/english"
	"github.com/urfave/cli/v3"

	"bridgespan/client"
	"bridgespan/core/namespace"
	"bridgespan/model"
	"bridgespan/tree/bucket/seal"
)

// Flags of cloud sets whose files are sealed.
func sealFlag(what string) cli.Flag {
	return &cli.StringFlag{Name: "seal", Usage: "seal files, that is encrypt them before they are sent to the bucket: " + what}
}

func recoveryKeyFlag() cli.Flag {
	return &cli.StringSliceFlag{Name: "recovery-key", Usage: "a public `KEY` of age; with its private key, files can be opened without Bridge Span; make one with: bspan cloud key make FILE; may be given again"}
}

// sealFlags are the settings that these flags give; nil when none is given.
func sealFlags(c *cli.Command) (*model.DraftSealing, error) {
	if !c.IsSet("seal") && !c.IsSet("recovery-key") {
		return nil, nil
	}
	d := &model.DraftSealing{What: cmp.Or(c.String("seal"), model.SealContents), RecoveryKeys: c.StringSlice("recovery-key")}
	if d.What != model.SealNothing && d.What != model.SealContents && d.What != model.SealNames {
		return nil, usageError{fmt.Sprintf("--seal: %q is not nothing, contents or names", d.What)}
	}
	return d, nil
}

// sealedPlace is the argument that names a sealed folder.
const sealedPlace = "CLOUD/BUCKET[/FOLDER]"

func keyCommand() *cli.Command {
	return &cli.Command{Name: "key", Usage: "the keys of sealed folders: folders of buckets whose files are encrypted before they are sent", Commands: []*cli.Command{
		{Name: "list", Usage: "list the sealed folders", Action: signedIn(listSealed)},
		{Name: "make", Usage: "make a recovery key: its private key into a new file, its public key for --recovery-key", ArgsUsage: "FILE", Action: signedIn(makeRecoveryKey, "FILE")},
		{Name: "recovery", Usage: "set the recovery keys of a sealed folder; its files stay as they are", ArgsUsage: sealedPlace, Flags: []cli.Flag{recoveryKeyFlag(), rehearseFlag()}, Action: rehearsable(setRecoveryKeys, sealedPlace)},
		{Name: "import", Usage: "import the key of a folder that was sealed before, as with another installation of Bridge Span", ArgsUsage: sealedPlace, Flags: []cli.Flag{
			&cli.StringFlag{Name: "key-file", Usage: "`FILE` with the private key of the folder; or, with --recovery-file, a copy of its object " + seal.KeyFile, Required: true},
			&cli.StringFlag{Name: "recovery-file", Usage: "`FILE` with the private key of a recovery key, which opens the key file here and is not sent"},
			&cli.BoolFlag{Name: "names", Usage: "names are sealed, too"}, recoveryKeyFlag(), rehearseFlag()}, Action: rehearsable(importKey, sealedPlace)},
		{Name: "remove", Usage: "remove the key of a sealed folder without a cloud set; its files can then be opened with a recovery key alone", ArgsUsage: sealedPlace, Flags: []cli.Flag{rehearseFlag()}, Action: rehearsable(removeKey, sealedPlace)},
		{Name: "open", Usage: "open the files in a copy of a sealed folder, without the service", ArgsUsage: "COPY TO", Flags: []cli.Flag{
			&cli.StringFlag{Name: "recovery-file", Usage: "`FILE` with the private key of a recovery key", Required: true}}, Action: openCopy},
	}}
}

func listSealed(ctx context.Context, c *cli.Command, api *client.Client, _ []string) error {
	list, err := api.SealedFolders(ctx)
	if err != nil {
		return err
	}
	t := table{heads: []string{"folder", "sealed", "set", "recovery keys", "since", "by"}, empty: "No folder of a bucket is sealed. Cloud sets seal their files with: bspan cloud setup add SET --seal contents --recovery-key KEY"}
	for _, f := range list {
		t.add(namespace.Target{Server: f.Server, Share: f.Bucket, Sub: f.Folder}.String(), sealedWords(&f.Sealing), f.Set, strings.Join(shortKeys(f.RecoveryKeys), ", "), when(f.Created), f.By)
	}
	return show(c, list, t)
}

func sealedWords(s *model.Sealing) string {
	switch {
	case s == nil:
		return "nothing"
	case s.Names:
		return "contents and names"
	}
	return "contents"
}

// shortKeys are the beginnings of public keys: enough to tell them apart.
func shortKeys(keys []string) (short []string) {
	for _, k := range keys {
		short = append(short, k[:min(len(k), 14)]+"…")
	}
	return short
}

func makeRecoveryKey(ctx context.Context, c *cli.Command, api *client.Client, args []string) error {
	f, err := os.OpenFile(args[0], os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o600)
	if err != nil {
		return fmt.Errorf("%w; give the name of a new file", err)
	}
	k, err := api.MakeRecoveryKey(ctx)
	if err == nil {
		_, err = f.WriteString(k.Private)
	}
	if closed := f.Close(); err == nil {
		err = closed
	}
	if err != nil {
		_ = os.Remove(args[0])
		return err
	}
	made := struct {
		Public string `json:"public"`
		File   string `json:"file"`
	}{k.Public, args[0]}
	return done(c, made, "the private key is in %s: keep it in a safe place, not beside the bucket. Give the public key when you set up a set: --recovery-key %s", args[0], k.Public)
}

// sealedAt finds a sealed folder by its place.
func sealedAt(ctx context.Context, api *client.Client, place string) (model.SealedFolder, error) {
	at, err := namespace.ParseTarget(sealedPlace, place)
	if err != nil {
		return model.SealedFolder{}, err
	}
	list, err := api.SealedFolders(ctx)
	if err != nil {
		return model.SealedFolder{}, err
	}
	for _, f := range list {
		if namespace.Key(f.Server) == namespace.Key(at.Server) && f.Bucket == at.Share && f.Folder == at.Sub {
			return f, nil
		}
	}
	return model.SealedFolder{}, usageError{fmt.Sprintf("%s is not a sealed folder; see: bspan cloud key list", at)}
}

func setRecoveryKeys(ctx context.Context, c *cli.Command, api *client.Client, args []string) error {
	f, err := sealedAt(ctx, api, args[0])
	if err != nil {
		return err
	}
	if f, err = api.SetRecoveryKeys(ctx, f.Recipient, c.StringSlice("recovery-key")); err != nil {
		return err
	}
	return done(c, f, "the key of %s can be opened with %s", args[0], english.Plural(len(f.RecoveryKeys), "recovery key", ""))
}

// folderKey reads the private key of a folder. With the file of a recovery key, it decrypts the key on this machine: the recovery key is not sent.
func folderKey(file, recoveryFile string) (string, error) {
	text, err := os.ReadFile(file)
	if err != nil || recoveryFile == "" {
		return string(text), err
	}
	recovery, err := os.ReadFile(recoveryFile)
	if err != nil {
		return "", err
	}
	key, err := seal.Recover(text, string(recovery))
	if err != nil {
		return "", fmt.Errorf("open %s with %s: %w", file, recoveryFile, err)
	}
	return key.Identity(), nil
}

func importKey(ctx context.Context, c *cli.Command, api *client.Client, args []string) error {
	at, err := namespace.ParseTarget(sealedPlace, args[0])
	if err != nil {
		return err
	}
	key, err := folderKey(c.String("key-file"), c.String("recovery-file"))
	if err != nil {
		return err
	}
	f, err := api.ImportKey(ctx, model.KeyImport{Server: at.Server, Bucket: at.Share, Folder: at.Sub, Key: key, Sealing: model.Sealing{Names: c.Bool("names"), RecoveryKeys: c.StringSlice("recovery-key")}})
	if err != nil {
		return err
	}
	return done(c, f, "imported the key of %s; cloud sets can use the folder now", at)
}

func removeKey(ctx context.Context, c *cli.Command, api *client.Client, args []string) error {
	f, err := sealedAt(ctx, api, args[0])
	if err != nil {
		return err
	}
	if err := api.RemoveFolderKey(ctx, f.Recipient); err != nil {
		return err
	}
	return done(c, nil, "removed the key of %s; its files can be opened with a recovery key alone", args[0])
}

// mostNamed is how many files are named that could not be opened.
const mostNamed = 20

// openCopy opens the files in a copy of a bucket that another client has made.
func openCopy(ctx context.Context, c *cli.Command) error {
	if c.NArg() != 2 {
		return usageError{"name the folder with the copy of the bucket, and a folder for the files: COPY TO"}
	}
	recovery, err := os.ReadFile(c.String("recovery-file"))
	if err != nil {
		return err
	}
	from, err := os.OpenRoot(c.Args().Get(0))
	if err != nil {
		return err
	}
	defer from.Close()
	if err := os.MkdirAll(c.Args().Get(1), 0o700); err != nil {
		return err
	}
	to, err := os.OpenRoot(c.Args().Get(1))
	if err != nil {
		return err
	}
	defer to.Close()
	failed := 0
	opened, err := seal.OpenCopy(ctx, from, to, string(recovery), func(name string, err error) {
		if failed++; failed <= mostNamed {
			fmt.Fprintf(c.Root().ErrWriter, "%s: %v\n", name, err)
		}
	})
	if err != nil {
		return err
	}
	if failed > mostNamed {
		fmt.Fprintf(c.Root().ErrWriter, "and %d more\n", failed-mostNamed)
	}
	more := ""
	if opened.Plain > 0 {
		more = fmt.Sprintf("; copied %s not sealed", english.Plural(opened.Plain, "file that was", "files that were"))
	}
	if opened.There > 0 {
		more += fmt.Sprintf("; skipped %s with the same content", english.Plural(opened.There, "file", "files"))
	}
	if err := done(c, opened, "opened %s%s; %s written", english.Plural(opened.Files, "file", ""), more, humanize.IBytes(uint64(opened.Bytes))); err != nil {
		return err
	}
	if opened.Failed > 0 {
		return fmt.Errorf("%s could not be opened", english.Plural(opened.Failed, "file", ""))
	}
	return nil
}
