package cloud

import (
	"crypto/hmac"
	"crypto/sha256"
	"encoding/hex"
	"net/http"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"time"
)

// Signature version 4 of the S3 API reference ("Authenticating requests").
const (
	algorithm  = "AWS4-HMAC-SHA256"
	dateForm   = "20060102T150405Z"
	service    = "s3"
	terminator = "aws4_request"
	mostSkew   = 15 * time.Minute
	// mostExpires is the longest validity of a presigned URL, in seconds: a week.
	mostExpires = 7 * 24 * 60 * 60
)

// signed is the signature of a request.
type signed struct {
	key, day, region string
	at               time.Time
	headers          []string
	signature        string
	payload          string // hash in hex, or the payload type
	inAddress        bool
}

// scope is the scope of a signing key.
func (s *signed) scope() string {
	return strings.Join([]string{s.day, s.region, service, terminator}, "/")
}

// parseSigned reads the signature of a request; nil when it has none.
func parseSigned(r *http.Request) (*signed, *Error) {
	query := r.URL.Query()
	switch {
	case query.Has("X-Amz-Algorithm"):
		return parseAddress(query)
	case r.Header.Get("Authorization") != "":
		return parseHeader(r)
	}
	return nil, nil
}

func malformed(format string, args ...any) *Error {
	return refuse(http.StatusBadRequest, "AuthorizationHeaderMalformed", format, args...)
}

// parseHeader reads the Authorization header.
func parseHeader(r *http.Request) (*signed, *Error) {
	text, ours := strings.CutPrefix(r.Header.Get("Authorization"), algorithm+" ")
	if !ours {
		return nil, refuse(http.StatusBadRequest, "InvalidRequest", "The authorization mechanism you have provided is not supported. Please use %s.", algorithm)
	}
	s := &signed{payload: r.Header.Get("X-Amz-Content-Sha256")}
	var credential string
	for field := range strings.SplitSeq(text, ",") {
		name, value, _ := strings.Cut(strings.TrimSpace(field), "=")
		switch name {
		case "Credential":
			credential = value
		case "SignedHeaders":
			s.headers = strings.Split(value, ";")
		case "Signature":
			s.signature = value
		}
	}
	if s.payload == "" {
		return nil, refuse(http.StatusBadRequest, "InvalidRequest", "Missing required header for this request: x-amz-content-sha256")
	}
	if err := s.parseCredential(credential); err != nil {
		return nil, err
	}
	date := r.Header.Get("X-Amz-Date")
	if date == "" {
		date = r.Header.Get("Date")
	}
	return s, s.parseDate(date)
}

// parseAddress reads the query parameters of a presigned URL.
func parseAddress(query url.Values) (*signed, *Error) {
	if query.Get("X-Amz-Algorithm") != algorithm {
		return nil, refuse(http.StatusBadRequest, "AuthorizationQueryParametersError", "X-Amz-Algorithm only supports %q", algorithm)
	}
	s := &signed{payload: unsignedPayload, inAddress: true, signature: query.Get("X-Amz-Signature"), headers: strings.Split(query.Get("X-Amz-SignedHeaders"), ";")}
	if err := s.parseCredential(query.Get("X-Amz-Credential")); err != nil {
		return nil, err
	}
	return s, s.parseDate(query.Get("X-Amz-Date"))
}

// parseCredential reads KEY/DAY/REGION/s3/aws4_request.
func (s *signed) parseCredential(text string) *Error {
	parts := strings.Split(text, "/")
	if len(parts) != 5 || parts[3] != service || parts[4] != terminator {
		return malformed("The authorization header is malformed; the Credential is mal-formed; expecting \"<YOUR-AKID>/YYYYMMDD/REGION/s3/aws4_request\".")
	}
	s.key, s.day, s.region = parts[0], parts[1], parts[2]
	return nil
}

func (s *signed) parseDate(text string) *Error {
	at, err := time.Parse(dateForm, text)
	if err != nil {
		return accessDenied("AWS authentication requires a valid Date or x-amz-date header")
	}
	if s.at = at; at.Format("20060102") != s.day {
		return malformed("The authorization header is malformed; Invalid credential date %q. This date is not the same as X-Amz-Date: %q.", s.day, at.Format("20060102"))
	}
	return nil
}

// check verifies that a request was signed with a secret, recently, for a region.
func (s *signed) check(r *http.Request, secret, region string, now time.Time) *Error {
	if s.region != region {
		err := malformed("The authorization header is malformed; the region %q is wrong; expecting %q", s.region, region)
		err.Region = region
		return err
	}
	if err := s.checkTime(r, now); err != nil {
		return err
	}
	if err := s.checkHeaders(r); err != nil {
		return err
	}
	want := s.sign(secret, canonical(r, s))
	if !hmac.Equal([]byte(want), []byte(s.signature)) {
		return refuse(http.StatusForbidden, "SignatureDoesNotMatch", "The request signature we calculated does not match the signature you provided. Check your key and signing method.")
	}
	return nil
}

// checkTime checks the age of the signature, or the validity of a presigned URL.
func (s *signed) checkTime(r *http.Request, now time.Time) *Error {
	if !s.inAddress {
		if skew := now.Sub(s.at).Abs(); skew > mostSkew {
			return refuse(http.StatusForbidden, "RequestTimeTooSkewed", "The difference between the request time and the current time is too large.")
		}
		return nil
	}
	seconds, err := strconv.Atoi(r.URL.Query().Get("X-Amz-Expires"))
	switch {
	case err != nil || seconds < 0 || seconds > mostExpires:
		return refuse(http.StatusBadRequest, "AuthorizationQueryParametersError", "X-Amz-Expires must be a number of seconds of at most a week")
	case now.Before(s.at.Add(-mostSkew)):
		return accessDenied("Request is not valid yet")
	case now.After(s.at.Add(time.Duration(seconds) * time.Second)):
		return accessDenied("Request has expired")
	}
	return nil
}

// checkHeaders checks that host and all x-amz headers were signed.
func (s *signed) checkHeaders(r *http.Request) *Error {
	if !slices.Contains(s.headers, "host") {
		return accessDenied("There were headers present in the request which were not signed: host")
	}
	for name := range r.Header {
		name = strings.ToLower(name)
		if (strings.HasPrefix(name, "x-amz-") || name == "content-md5") && !slices.Contains(s.headers, name) {
			return accessDenied("There were headers present in the request which were not signed: %s", name)
		}
	}
	return nil
}

// canonical returns the canonical request.
func canonical(r *http.Request, s *signed) string {
	var b strings.Builder
	b.WriteString(r.Method + "\n" + escape(r.URL.Path, true) + "\n" + canonicalQuery(r.URL.Query()) + "\n")
	for _, name := range s.headers {
		b.WriteString(name + ":" + headerValue(r, name) + "\n")
	}
	b.WriteString("\n" + strings.Join(s.headers, ";") + "\n" + s.payload)
	return b.String()
}

// headerValue returns a header's value in canonical form: trimmed, with single spaces.
func headerValue(r *http.Request, name string) string {
	switch name {
	case "host":
		return r.Host
	case "content-length":
		return strconv.FormatInt(r.ContentLength, 10)
	}
	values := slices.Clone(r.Header.Values(name))
	for i, v := range values {
		values[i] = strings.Join(strings.Fields(v), " ")
	}
	return strings.Join(values, ",")
}

func canonicalQuery(query url.Values) string {
	var pairs []string
	for name, values := range query {
		if name == "X-Amz-Signature" {
			continue
		}
		for _, value := range values {
			pairs = append(pairs, escape(name, false)+"="+escape(value, false))
		}
	}
	slices.Sort(pairs)
	return strings.Join(pairs, "&")
}

// escape percent-encodes all but unreserved characters (RFC 3986, section 2.3).
func escape(text string, slashes bool) string {
	const hexDigits = "0123456789ABCDEF"
	var b strings.Builder
	for i := range len(text) {
		switch c := text[i]; {
		case c >= 'A' && c <= 'Z' || c >= 'a' && c <= 'z' || c >= '0' && c <= '9' || strings.IndexByte("-._~", c) >= 0 || slashes && c == '/':
			b.WriteByte(c)
		default:
			b.WriteByte('%')
			b.WriteByte(hexDigits[c>>4])
			b.WriteByte(hexDigits[c&15])
		}
	}
	return b.String()
}

// sign returns the signature of a canonical request.
func (s *signed) sign(secret, request string) string {
	text := strings.Join([]string{algorithm, s.at.Format(dateForm), s.scope(), hexHash(request)}, "\n")
	return hex.EncodeToString(mac(s.signingKey(secret), text))
}

func (s *signed) signingKey(secret string) []byte {
	key := mac([]byte("AWS4"+secret), s.day)
	for _, part := range []string{s.region, service, terminator} {
		key = mac(key, part)
	}
	return key
}

func mac(key []byte, text string) []byte {
	h := hmac.New(sha256.New, key)
	h.Write([]byte(text))
	return h.Sum(nil)
}

func hexHash(text string) string {
	sum := sha256.Sum256([]byte(text))
	return hex.EncodeToString(sum[:])
}
