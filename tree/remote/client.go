package remote

import (
	"bufio"
	"bytes"
	"context"
	"crypto/sha256"
	"crypto/tls"
	"crypto/x509"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"sync"
	"time"

	"bridgespan/tree"
)

// Target is what it takes to reach a mover.
type Target struct {
	Address     string // host and port
	Secret      string
	Fingerprint string // SHA-256 of its certificate, in hexadecimal digits
	Timeout     time.Duration
	// IdleTimeout is how long a mover may send nothing while it owes an answer; 0 means two
	// minutes, and an hour where it works on a whole file.
	IdleTimeout time.Duration
	// Untrusted is called when the mover sent what no mover sends; nil does nothing.
	Untrusted func(why error)
}

// Errors of reaching a mover.
var (
	// ErrSecret: the mover does not take the secret.
	ErrSecret = errors.New("the mover refuses the secret")
	// ErrStranger: somebody else answers, or the mover was given another certificate.
	ErrStranger = errors.New("the certificate is another")
)

// Host is a mover that is reached.
type Host struct {
	target    Target
	client    *http.Client
	transport *http.Transport
	once      sync.Once // the mover is distrusted
}

// Dial reaches a mover, and asks what it serves. The caller must close the host.
func Dial(ctx context.Context, target Target) (*Host, Info, error) {
	h := &Host{target: target}
	dialer := &net.Dialer{Timeout: target.Timeout, KeepAlive: 15 * time.Second}
	h.transport = &http.Transport{
		DialContext: dialer.DialContext, TLSHandshakeTimeout: target.Timeout, ForceAttemptHTTP2: true,
		// One that was silent so long is asked whether it lives, and given up.
		HTTP2:           &http.HTTP2Config{SendPingTimeout: 15 * time.Second, PingTimeout: 15 * time.Second},
		TLSClientConfig: &tls.Config{MinVersion: tls.VersionTLS13, InsecureSkipVerify: true, VerifyConnection: h.verify}, // known by its fingerprint alone
		IdleConnTimeout: 5 * time.Minute, DisableCompression: true, MaxResponseHeaderBytes: 64 << 10,
	}
	h.client = &http.Client{Transport: h.transport, CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}
	var info Info
	err := h.get(ctx, &info)
	if err != nil {
		h.Close()
	}
	return h, info, err
}

// verify lets the mover through whose certificate has the fingerprint, or is vouched
// for by the one that has it. What names it bears does not matter.
func (h *Host) verify(state tls.ConnectionState) error {
	for _, c := range state.PeerCertificates {
		if Fingerprint(c.Raw) != plainFingerprint(h.target.Fingerprint) {
			continue
		}
		if c == state.PeerCertificates[0] {
			return nil
		}
		trusted := x509.NewCertPool()
		trusted.AddCert(c)
		if _, err := state.PeerCertificates[0].Verify(x509.VerifyOptions{Roots: trusted}); err != nil {
			return fmt.Errorf("%w: %w", ErrStranger, err)
		}
		return nil
	}
	return ErrStranger
}

// Fingerprint is that of a certificate.
func Fingerprint(certificate []byte) string {
	sum := sha256.Sum256(certificate)
	return hex.EncodeToString(sum[:])
}

// plainFingerprint is a fingerprint as it is compared, however it was written.
func plainFingerprint(text string) string {
	return strings.ToLower(strings.NewReplacer(":", "", " ", "").Replace(text))
}

// CheckFingerprint returns the form in which a fingerprint is kept.
func CheckFingerprint(text string) (string, error) {
	plain := plainFingerprint(text)
	if raw, err := hex.DecodeString(plain); err != nil || len(raw) != sha256.Size {
		return "", fmt.Errorf("%q is not the SHA-256 fingerprint of a certificate: 64 hexadecimal digits", text)
	}
	return plain, nil
}

// Close ends the connections that nothing is under way on.
func (h *Host) Close() error {
	h.transport.CloseIdleConnections()
	return nil
}

func (h *Host) url(parts ...string) string {
	for i := range parts {
		parts[i] = url.PathEscape(parts[i])
	}
	return "https://" + h.target.Address + "/v1/" + strings.Join(parts, "/")
}

func (h *Host) get(ctx context.Context, info *Info) error {
	ctx, cancel := context.WithTimeout(ctx, h.target.Timeout)
	defer cancel()
	request, err := http.NewRequestWithContext(ctx, http.MethodGet, h.url("host"), nil)
	if err != nil {
		return err
	}
	response, err := h.do(request)
	if err != nil {
		return err
	}
	defer response.Body.Close()
	if err := json.NewDecoder(io.LimitReader(response.Body, mostAnswer)).Decode(info); err != nil {
		return h.Distrust("it does not say what it serves: %w", err)
	}
	return h.checkInfo(info)
}

// Post makes a call about something else than files: it sends a body as JSON to a path below /v1,
// and reads the answer.
func (h *Host) Post(ctx context.Context, path []string, body, into any) error {
	text, err := json.Marshal(body)
	if err != nil {
		return err
	}
	return h.PostStream(ctx, path, bytes.NewReader(text), into)
}

// PostStream is Post with a body that is written as it is read.
func (h *Host) PostStream(ctx context.Context, path []string, body io.Reader, into any) error {
	ctx, cancel := context.WithTimeout(ctx, workTimeout)
	defer cancel()
	request, err := http.NewRequestWithContext(ctx, http.MethodPost, h.url(slices.Clone(path)...), body)
	if err != nil {
		return err
	}
	request.Header.Set("Content-Type", "application/json")
	response, err := h.do(request)
	if err != nil {
		return err
	}
	defer response.Body.Close()
	if err := json.NewDecoder(io.LimitReader(response.Body, mostPosted)).Decode(into); err != nil {
		return h.Distrust("its answer cannot be read: %w", err)
	}
	return nil
}

// mostPosted is how long the answer to Post may be.
const mostPosted = 64 << 20

// do sends a request, and turns what is no answer into an error.
func (h *Host) do(request *http.Request) (*http.Response, error) {
	request.Header.Set("Authorization", "Bearer "+h.target.Secret)
	response, err := h.client.Do(request)
	switch {
	case err == nil && response.StatusCode == http.StatusOK:
		return response, nil
	case err == nil:
		defer response.Body.Close()
		return nil, refusal(response)
	case errors.Is(context.Cause(request.Context()), errIdle):
		return nil, errIdle
	case request.Context().Err() != nil:
		return nil, request.Context().Err()
	case errors.Is(err, ErrStranger):
		return nil, ErrStranger
	}
	var dns *net.DNSError
	if errors.As(err, &dns) {
		return nil, err
	}
	return nil, fmt.Errorf("%w: %w", tree.ErrUnreachable, err)
}

// refusal is the error that an answer says.
func refusal(response *http.Response) error {
	if response.StatusCode == http.StatusUnauthorized {
		return ErrSecret
	}
	var a answer
	if err := json.NewDecoder(io.LimitReader(response.Body, mostAnswer)).Decode(&a); err != nil || a.Error == nil {
		return fmt.Errorf("what answers is no mover: it says %s", response.Status)
	}
	return a.Error.err()
}

// send sends a call, with content behind it unless that is nil, and returns the
// answer as it comes. The caller must call end.
func (h *Host) send(ctx context.Context, folder, op string, c call, content io.Reader) (answer *bufio.Reader, end func(), err error) {
	line, err := json.Marshal(c)
	if err != nil {
		return nil, nil, err
	}
	ctx, dog := h.watch(ctx, op)
	defer func() {
		if err != nil {
			dog.stop()
		}
	}()
	source := &source{r: content, trailer: http.Header{brokenOff: nil}, watchdog: dog}
	var from io.Reader
	if content != nil {
		from = source
	}
	body, isPacked, ended := packed(append(line, '\n'), from)
	request, err := http.NewRequestWithContext(ctx, http.MethodPost, h.url("folders", folder, op), body)
	if err != nil {
		ended()
		return nil, nil, err
	}
	if _, all := body.(*bytes.Reader); !all {
		request.Body, request.GetBody, request.ContentLength = io.NopCloser(body), nil, -1
	}
	if isPacked {
		request.Header.Set("Content-Encoding", encoding)
	}
	if content != nil {
		request.Trailer = source.trailer
	}
	request.Header.Set("Accept-Encoding", encoding)
	response, err := h.do(request)
	// What is sent was read by now, or is not wanted: nobody reads it from here on.
	source.close()
	ended()
	var refused *told
	if bad := source.failed(); bad != nil && (!errors.As(err, &refused) || refused.kind == tree.ErrTorn) {
		// The mover has thrown away what came of it, and says that it ended too soon.
		if err == nil {
			response.Body.Close()
		}
		return nil, nil, bad
	}
	if err != nil {
		return nil, nil, err
	}
	return received(response, dog)
}

// received is the body of an answer, as it was before it was compressed.
func received(response *http.Response, dog *watchdog) (*bufio.Reader, func(), error) {
	var body io.Reader = &watchedBody{response.Body, dog}
	end := func() {
		response.Body.Close()
		dog.stop()
	}
	if response.Header.Get("Content-Encoding") == encoding {
		plain, ended, err := unpack(body)
		if err != nil {
			response.Body.Close()
			return nil, nil, err
		}
		whole := end
		body, end = plain, func() { ended(); whole() }
	}
	reader := newReader(body)
	return reader, func() { dropReader(reader); end() }, nil
}

// readLine reads a line of an answer, and returns the error that it says, and how many
// bytes the line has.
func (h *Host) readLine(ctx context.Context, r *bufio.Reader) (a answer, n int, err error) {
	line, err := readBounded(r, mostAnswer)
	switch {
	case ctx.Err() != nil:
		return a, 0, ctx.Err()
	case errors.Is(err, errLong):
		return a, 0, h.Distrust("it answers with a line of more than %d bytes", mostAnswer)
	case err != nil:
		return a, 0, fmt.Errorf("%w: the answer was broken off: %w", tree.ErrUnreachable, err)
	}
	if err := json.Unmarshal(line, &a); err != nil {
		return a, 0, h.Distrust("its answer cannot be read: %w", err)
	}
	if a.Entry != nil {
		if err := h.checkEntry(a.Entry); err != nil {
			return a, 0, err
		}
	}
	if a.Error != nil && a.Entry == nil {
		return a, 0, a.Error.err()
	}
	return a, len(line), nil
}

// source reads what is sent until it is closed; then nobody reads it any more. When
// it cannot be read, the trailer says so: a request that was just given up would
// still be thrown away by the mover when its caller has gone on.
type source struct {
	trailer  http.Header
	watchdog *watchdog

	mu     sync.Mutex
	r      io.Reader
	closed bool
	err    error
}

func (s *source) Read(p []byte) (int, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.closed {
		return 0, io.ErrClosedPipe
	}
	n, err := s.r.Read(p)
	s.watchdog.reset()
	if err != nil && err != io.EOF {
		s.err, err = err, io.EOF
		s.trailer.Set(brokenOff, "1")
	}
	return n, err
}

func (s *source) close() {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.closed = true
}

func (s *source) failed() error {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.err
}
