package main

import (
	"bytes"
	"cmp"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strconv"
	"time"

	"github.com/pelletier/go-toml/v2"
	"github.com/urfave/cli/v3"

	"bridgespan/records"
	"bridgespan/service/access"
)

// config is how the service runs. A flag wins over the environment, the
// environment over the file, the file over the defaults.
type config struct {
	Listen         string `toml:"listen" comment:"Address of the API and the console"`
	Gateway        string `toml:"gateway" comment:"Address of the gateway; empty for none"`
	GatewaySite    string `toml:"gateway_site" comment:"Site at which the gateway stands"`
	GatewayURL     string `toml:"gateway_url" comment:"Where people reach the gateway, when it is not its address"`
	Database       string `toml:"database" comment:"Data source name: user:password@tcp(host:port)/name"`
	KeyFile        string `toml:"key_file" comment:"File with the key that secrets are sealed with; made at the first start"`
	WorkFolder     string `toml:"work_folder" comment:"Folder for stores that prove an estimate; beside the key file when empty"`
	SetupTokenFile string `toml:"setup_token_file" comment:"File to write the set-up token to, instead of printing it"`
	TLS            string `toml:"tls" comment:"auto encrypts what listens beyond this machine; on encrypts everything; off nothing"`
	TLSCertificate string `toml:"tls_certificate" comment:"PEM file; without one, a certificate is made at the first start"`
	TLSKey         string `toml:"tls_key" comment:"PEM file"`
	TrustedProxies string `toml:"trusted_proxies" comment:"Addresses and networks of proxies before the service, separated by commas: their X-Forwarded-For says where a request comes from"`
	SecureCookie   string `toml:"secure_cookie" comment:"auto sends cookies over TLS alone when the service speaks it; on always, as behind a proxy that does; off never"`
	SessionAge     string `toml:"gateway_session_age" comment:"For how long a password that a file server took at the gateway is good; then it is asked again"`
	TakeOver       string `toml:"take_over" comment:"After so long without a sign of life, another instance takes over what one was working on"`
	KeepRuns       string `toml:"keep_runs_days" comment:"For how many days runs that have ended are kept, but for the latest of each subject; empty for ever"`
	KeepHealth     string `toml:"keep_health_days" comment:"For how many days it is kept how locations were found; empty for ever"`
	KeepChanges    string `toml:"keep_changes_days" comment:"For how many days it is kept who changed what; for ever unless you say so"`
	LogFormat      string `toml:"log_format" comment:"text or json"`
	LogLevel       string `toml:"log_level" comment:"debug, info, warn or error"`
}

func defaults() config {
	return config{Listen: "127.0.0.1:8600", Gateway: "127.0.0.1:8610", KeyFile: "bspan.key", TLS: "auto", SecureCookie: "auto", SessionAge: "5m", TakeOver: "20s", KeepRuns: "365", KeepHealth: "365", LogFormat: "text", LogLevel: "info"}
}

// workFolder is where stores that prove an estimate are made.
func (c *config) workFolder() string {
	return cmp.Or(c.WorkFolder, filepath.Join(filepath.Dir(c.KeyFile), "work"))
}

// settings pairs every field with its flag; the environment variable is
// BSPAND_ and the flag's name in capitals.
func (c *config) settings() map[string]struct {
	to    *string
	usage string
} {
	type setting = struct {
		to    *string
		usage string
	}
	return map[string]setting{
		"listen":              {&c.Listen, "`ADDRESS` of the API and the console"},
		"gateway":             {&c.Gateway, "`ADDRESS` of the gateway; empty for none"},
		"gateway-site":        {&c.GatewaySite, "`SITE` at which the gateway stands"},
		"gateway-url":         {&c.GatewayURL, "`URL` where people reach the gateway"},
		"database":            {&c.Database, "data source `NAME`: user:password@tcp(host:port)/name"},
		"key-file":            {&c.KeyFile, "`FILE` with the key that secrets are sealed with"},
		"work-folder":         {&c.WorkFolder, "`FOLDER` for stores that prove an estimate"},
		"setup-token-file":    {&c.SetupTokenFile, "`FILE` to write the set-up token to"},
		"tls":                 {&c.TLS, "auto, on or off: what to encrypt"},
		"tls-certificate":     {&c.TLSCertificate, "PEM `FILE`"},
		"tls-key":             {&c.TLSKey, "PEM `FILE`"},
		"trusted-proxies":     {&c.TrustedProxies, "`NETWORKS` of proxies before the service, separated by commas"},
		"secure-cookie":       {&c.SecureCookie, "auto, on or off: send cookies over TLS alone"},
		"gateway-session-age": {&c.SessionAge, "`TIME` for which a password that a file server took is good"},
		"take-over":           {&c.TakeOver, "`TIME` without a sign of life after which another instance takes over work"},
		"keep-runs-days":      {&c.KeepRuns, "`DAYS` for which runs that have ended are kept; empty for ever"},
		"keep-health-days":    {&c.KeepHealth, "`DAYS` for which it is kept how locations were found; empty for ever"},
		"keep-changes-days":   {&c.KeepChanges, "`DAYS` for which it is kept who changed what; empty for ever"},
		"log-format":          {&c.LogFormat, "text or json"},
		"log-level":           {&c.LogLevel, "debug, info, warn or error"},
	}
}

// readConfig combines file, environment and flags, and checks the result.
func readConfig(cmd *cli.Command) (config, error) {
	c := defaults()
	if file := cmd.String("config"); file != "" {
		text, err := os.ReadFile(file)
		if err != nil {
			return c, fmt.Errorf("config: %w", err)
		}
		decoder := toml.NewDecoder(bytes.NewReader(text)).DisallowUnknownFields()
		if err := decoder.Decode(&c); err != nil {
			return c, fmt.Errorf("config %s: %w", file, explainTOML(err))
		}
	}
	for name, s := range c.settings() {
		if cmd.IsSet(name) {
			*s.to = cmd.String(name)
		}
	}
	return c, c.check()
}

// explainTOML names the line of a mistake.
func explainTOML(err error) error {
	var unknown *toml.StrictMissingError
	if errors.As(err, &unknown) && len(unknown.Errors) > 0 {
		row, _ := unknown.Errors[0].Position()
		return fmt.Errorf("line %d: there is no setting %v; see bspand serve --help", row, unknown.Errors[0].Key())
	}
	var wrong *toml.DecodeError
	if errors.As(err, &wrong) {
		row, column := wrong.Position()
		return fmt.Errorf("line %d, column %d: %w", row, column, err)
	}
	return err
}

func (c *config) check() error {
	switch {
	case c.Database == "":
		return errors.New("database: a data source name is needed; set it in the config file, as BSPAND_DATABASE or with --database")
	case (c.TLSCertificate == "") != (c.TLSKey == ""):
		return errors.New("tls_certificate and tls_key: set both or neither")
	case c.TLS != "auto" && c.TLS != "on" && c.TLS != "off":
		return fmt.Errorf("tls: %q is none of auto, on and off", c.TLS)
	case c.TLS == "off" && c.TLSKey != "":
		return errors.New("tls: off, and yet there is a tls_certificate: leave one of them out")
	case c.SecureCookie != "auto" && c.SecureCookie != "on" && c.SecureCookie != "off":
		return fmt.Errorf("secure_cookie: %q is none of auto, on and off", c.SecureCookie)
	case c.LogFormat != "text" && c.LogFormat != "json":
		return fmt.Errorf("log_format: %q is neither text nor json", c.LogFormat)
	}
	if _, err := access.ParseProxies(c.TrustedProxies); err != nil {
		return fmt.Errorf("trusted_proxies: %w", err)
	}
	if age, err := time.ParseDuration(c.SessionAge); err != nil || age < time.Second || age > 24*time.Hour {
		return fmt.Errorf("gateway_session_age: %q is not a time between 1s and 24h, such as 5m", c.SessionAge)
	}
	if after, err := time.ParseDuration(c.TakeOver); err != nil || after < 2*time.Second || after > 10*time.Minute {
		return fmt.Errorf("take_over: %q is not a time between 2s and 10m, such as 20s", c.TakeOver)
	}
	for name, days := range map[string]string{"keep_runs_days": c.KeepRuns, "keep_health_days": c.KeepHealth, "keep_changes_days": c.KeepChanges} {
		if n, err := strconv.Atoi(days); days != "" && (err != nil || n < 1 || n > 36500) {
			return fmt.Errorf("%s: %q is not a number of days between 1 and 36500", name, days)
		}
	}
	return nil
}

// retention, like takeOver, was checked before.
func (c *config) retention() records.Retention {
	age := func(days string) time.Duration {
		n, _ := strconv.Atoi(days)
		return time.Duration(n) * 24 * time.Hour
	}
	return records.Retention{Runs: age(c.KeepRuns), Health: age(c.KeepHealth), Changes: age(c.KeepChanges)}
}

func (c *config) takeOver() time.Duration {
	after, _ := time.ParseDuration(c.TakeOver)
	return after
}

// proxies, and sessionAge, were checked before.
func (c *config) proxies() access.Proxies {
	p, _ := access.ParseProxies(c.TrustedProxies)
	return p
}

func (c *config) sessionAge() time.Duration {
	age, _ := time.ParseDuration(c.SessionAge)
	return age
}

// secure reports whether people reach the API over TLS alone.
func (c *config) secure() bool {
	return c.SecureCookie == "on" || c.SecureCookie == "auto" && c.encrypts(c.Listen)
}
