package cloud

import (
	"context"
	"crypto/rand"
	"crypto/tls"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"time"

	"github.com/pelletier/go-toml/v2"

	"bridgespan/certificate"
	"bridgespan/guard"
)

// settingsFile contains keys and regions. The operator may edit it.
const settingsFile = "cloud.toml"

// settings is the content of that file.
type settings struct {
	Keys    []Key    `toml:"keys"`
	Regions []Region `toml:"regions"`
}

// Options say how to run a cloud.
type Options struct {
	Dir     string
	Regions []Region // of a new cloud
	TLS     bool     // with certificates of its own CA, kept in the folder
	Control string   // address and port of the control service; "": none
}

// Server is a running cloud.
type Server struct {
	*Cloud
	Config  Config
	Made    bool // created at this start
	CA      string
	servers []*http.Server
	ended   chan error
}

// Start runs a cloud, and creates it when there is none. The caller must call Stop.
func Start(o Options) (*Server, error) {
	kept, made, err := readSettings(o)
	if err != nil {
		return nil, err
	}
	s := &Server{Config: Config{Dir: filepath.Join(o.Dir, "data"), Keys: kept.Keys, Regions: kept.Regions}, Made: made, ended: make(chan error, len(kept.Regions)+1)}
	if s.Cloud, err = Open(s.Config); err != nil {
		return nil, err
	}
	if err := s.listen(o); err != nil {
		s.Stop()
		return nil, err
	}
	return s, nil
}

// readSettings reads keys and regions, or creates them for a new cloud.
func readSettings(o Options) (kept settings, made bool, err error) {
	at := filepath.Join(o.Dir, settingsFile)
	text, err := os.ReadFile(at)
	if errors.Is(err, fs.ErrNotExist) {
		kept = settings{Keys: []Key{{ID: "trust-" + rand.Text()[:8], Secret: rand.Text() + rand.Text(), Account: "trust", Rights: AllRights}}, Regions: o.Regions}
		if len(kept.Regions) == 0 {
			return kept, false, errors.New("name a region, as NAME=ADDRESS:PORT")
		}
		if text, err = toml.Marshal(kept); err == nil {
			err = errors.Join(os.MkdirAll(o.Dir, 0o700), os.WriteFile(at, text, 0o600))
		}
		return kept, true, err
	}
	if err == nil {
		err = toml.Unmarshal(text, &kept)
	}
	if err != nil {
		return kept, false, fmt.Errorf("%s: %w", at, err)
	}
	return kept, false, nil
}

// listen starts the services of all regions, and the control service.
func (s *Server) listen(o Options) error {
	var authority *certificate.Authority
	if o.TLS {
		var err error
		if authority, _, err = certificate.Open(o.Dir, "simulated cloud"); err != nil {
			return err
		}
		s.CA = filepath.Join(o.Dir, "ca.pem")
		if err := os.WriteFile(s.CA, authority.PEM(), 0o644); err != nil {
			return err
		}
	}
	for _, r := range s.Config.Regions {
		if err := s.serve(r.Listen, s.Region(r.Name), authority); err != nil {
			return fmt.Errorf("region %s: %w", r.Name, err)
		}
	}
	if o.Control == "" {
		return nil
	}
	return s.serve(o.Control, guard.Handler(s.control()), nil)
}

// Limits of connections.
const (
	headMost = 30 * time.Second
	idleMost = 2 * time.Minute
	endMost  = 5 * time.Second
)

// serve listens at an address, which must be on loopback: a simulation must not be reached from the network.
func (s *Server) serve(address string, handler http.Handler, authority *certificate.Authority) error {
	l, err := net.Listen("tcp", address)
	if err != nil {
		return err
	}
	host, _, err := net.SplitHostPort(l.Addr().String())
	if err != nil || !net.ParseIP(host).IsLoopback() {
		l.Close()
		return fmt.Errorf("%s is not a loopback address", address)
	}
	if authority != nil {
		l = tls.NewListener(l, &tls.Config{MinVersion: tls.VersionTLS12, GetCertificate: authority.Server(host, "localhost")})
	}
	server := &http.Server{Handler: handler, ReadHeaderTimeout: headMost, IdleTimeout: idleMost, MaxHeaderBytes: 64 << 10, ErrorLog: slog.NewLogLogger(slog.Default().Handler(), slog.LevelDebug)}
	s.servers = append(s.servers, server)
	guard.Go(func() { s.ended <- server.Serve(l) })
	return nil
}

// control serves bills, the settings of the faults, and the receivers of events, as JSON.
func (s *Server) control() http.Handler {
	mux := http.NewServeMux()
	tell := func(w http.ResponseWriter) {
		w.Header().Set("Content-Type", "application/json")
		_ = json.NewEncoder(w).Encode(s.Dials().Now())
	}
	mux.HandleFunc("GET /bills", s.bills)
	mux.HandleFunc("GET /dials", func(w http.ResponseWriter, _ *http.Request) { tell(w) })
	mux.HandleFunc("PUT /dials", func(w http.ResponseWriter, r *http.Request) {
		var asked Settings
		d := json.NewDecoder(http.MaxBytesReader(w, r.Body, 4096))
		d.DisallowUnknownFields()
		err := d.Decode(&asked)
		if err == nil {
			err = asked.check()
		}
		if err != nil {
			http.Error(w, err.Error(), http.StatusUnprocessableEntity)
			return
		}
		s.Dials().Turn(asked)
		tell(w)
	})
	mux.HandleFunc("PUT /receivers", func(w http.ResponseWriter, r *http.Request) {
		var asked Receiver
		d := json.NewDecoder(http.MaxBytesReader(w, r.Body, 4096))
		d.DisallowUnknownFields()
		err := d.Decode(&asked)
		if err == nil {
			err = s.SetReceiver(asked)
		}
		if err != nil {
			http.Error(w, err.Error(), http.StatusUnprocessableEntity)
			return
		}
		w.WriteHeader(http.StatusNoContent)
	})
	return mux
}

// Wait returns when the server fails, or ctx ends.
func (s *Server) Wait(ctx context.Context) error {
	select {
	case <-ctx.Done():
		return nil
	case err := <-s.ended:
		return err
	}
}

// Stop ends the server. Requests in progress get a few seconds.
func (s *Server) Stop() {
	ctx, cancel := context.WithTimeout(context.Background(), endMost)
	defer cancel()
	for _, server := range s.servers {
		if server.Shutdown(ctx) != nil {
			server.Close()
		}
	}
	_ = s.Close()
}
