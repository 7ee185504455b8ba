package cloud

import (
	"bufio"
	"bytes"
	"crypto/hmac"
	"crypto/md5"
	"crypto/sha1"
	"crypto/sha256"
	"encoding/base64"
	"encoding/hex"
	"errors"
	"hash"
	"hash/crc32"
	"hash/crc64"
	"io"
	"net/http"
	"strconv"
	"strings"
)

// Payload types other than a plain hash ("Signature calculations … multiple chunks").
const (
	unsignedPayload   = "UNSIGNED-PAYLOAD"
	streamed          = "STREAMING-AWS4-HMAC-SHA256-PAYLOAD"
	streamedTrailer   = "STREAMING-AWS4-HMAC-SHA256-PAYLOAD-TRAILER"
	streamedUnsigned  = "STREAMING-UNSIGNED-PAYLOAD-TRAILER"
	mostChunkHead     = 256
	mostTrailer       = 4096
	mostChunk         = 128 << 20
	emptyPayloadNamed = "e3b0c44298fc1c149afbf4c8996fb92427ae41e4649b934ca495991b7852b855"
)

// payload returns the content of a request. Reading its end fails with an *[Error] when the content differs
// from the signed hash or a given checksum. decoded is its length; -1 when not given.
func payload(r *http.Request, s *signed, secret string) (content io.Reader, decoded int64, refused *Error) {
	content, decoded = r.Body, r.ContentLength
	form := unsignedPayload
	if s != nil {
		form = s.payload
	}
	switch form {
	case unsignedPayload:
	case streamed, streamedTrailer, streamedUnsigned:
		n, err := strconv.ParseInt(r.Header.Get("X-Amz-Decoded-Content-Length"), 10, 64)
		if err != nil || n < 0 {
			return nil, 0, refuse(http.StatusLengthRequired, "MissingContentLength", "You must provide the x-amz-decoded-content-length HTTP header.")
		}
		c := &chunks{in: bufio.NewReaderSize(r.Body, 64<<10), left: n, trailer: r.Header.Get("X-Amz-Trailer")}
		if form != streamedUnsigned {
			c.signed, c.key, c.last = s, s.signingKey(secret), s.signature
		}
		content, decoded = c, n
	default:
		want, err := hex.DecodeString(form)
		if err != nil || len(want) != sha256.Size {
			return nil, 0, refuse(http.StatusBadRequest, "InvalidArgument", "x-amz-content-sha256 must be UNSIGNED-PAYLOAD, a streaming form, or a valid sha256 value.")
		}
		content = &checked{in: content, hash: sha256.New(), want: want, otherwise: refuse(http.StatusBadRequest, "XAmzContentSHA256Mismatch", "The provided 'x-amz-content-sha256' header does not match what was computed.")}
	}
	content, refused = announced(r.Header, content)
	return content, decoded, refused
}

// announced wraps content with the checksums given in headers.
func announced(h http.Header, content io.Reader) (io.Reader, *Error) {
	if text := h.Get("Content-Md5"); text != "" {
		want, err := base64.StdEncoding.DecodeString(text)
		if err != nil || len(want) != md5.Size {
			return nil, refuse(http.StatusBadRequest, "InvalidDigest", "The Content-MD5 you specified is not valid.")
		}
		content = &checked{in: content, hash: md5.New(), want: want, otherwise: refuse(http.StatusBadRequest, "BadDigest", "The Content-MD5 you specified did not match what we received.")}
	}
	for name, sum := range sums {
		text := h.Get(name)
		if text == "" {
			continue
		}
		want, err := base64.StdEncoding.DecodeString(text)
		if err != nil || len(want) != sum().Size() {
			return nil, refuse(http.StatusBadRequest, "InvalidRequest", "Value for %s header is invalid.", name)
		}
		content = &checked{in: content, hash: sum(), want: want, otherwise: badSum(name)}
	}
	return content, nil
}

func badSum(name string) *Error {
	return refuse(http.StatusBadRequest, "BadDigest", "The %s you specified did not match the calculated checksum.", name)
}

// sums are the supported checksum algorithms.
var sums = map[string]func() hash.Hash{
	"x-amz-checksum-crc32":     func() hash.Hash { return crc32.NewIEEE() },
	"x-amz-checksum-crc32c":    func() hash.Hash { return crc32.New(crc32.MakeTable(crc32.Castagnoli)) },
	"x-amz-checksum-crc64nvme": func() hash.Hash { return crc64.New(nvme) },
	"x-amz-checksum-sha1":      sha1.New,
	"x-amz-checksum-sha256":    sha256.New,
}

// nvme is the reflected polynomial of CRC-64/NVME.
var nvme = crc64.MakeTable(0x9a6c9329ac4bc9b5)

// checked is content with an expected checksum.
type checked struct {
	in        io.Reader
	hash      hash.Hash
	want      []byte
	otherwise *Error
}

func (c *checked) Read(p []byte) (int, error) {
	n, err := c.in.Read(p)
	c.hash.Write(p[:n])
	if err == io.EOF && !bytes.Equal(c.hash.Sum(nil), c.want) {
		return n, c.otherwise
	}
	return n, err
}

// chunks decodes content that is sent in chunks, with or without a signature each.
type chunks struct {
	in      *bufio.Reader
	left    int64 // bytes of the whole content
	signed  *signed
	key     []byte
	last    string // signature of the previous chunk
	trailer string // header name of the trailing checksum; "" without

	want      string // expected signature of the current chunk
	rest      int64  // unread bytes of the current chunk
	hash, sum hash.Hash
	err       error
}

func incomplete() *Error {
	return refuse(http.StatusBadRequest, "IncompleteBody", "You did not provide the number of bytes specified by the Content-Length HTTP header.")
}

func (c *chunks) Read(p []byte) (int, error) {
	if c.err == nil && c.rest == 0 {
		c.err = c.next()
	}
	if c.err != nil {
		return 0, c.err
	}
	n, err := c.in.Read(p[:min(int64(len(p)), c.rest)])
	c.rest -= int64(n)
	c.hash.Write(p[:n])
	if c.sum != nil {
		c.sum.Write(p[:n])
	}
	switch {
	case err != nil:
		c.err = incomplete()
	case c.rest == 0:
		c.err = c.endChunk()
	}
	return n, c.err
}

// next reads the header of the next chunk; io.EOF after the last.
func (c *chunks) next() error {
	if c.sum == nil && c.trailer != "" {
		make, known := sums[strings.ToLower(c.trailer)]
		if !known {
			return refuse(http.StatusBadRequest, "InvalidRequest", "The value specified in the x-amz-trailer header is not supported.")
		}
		c.sum = make()
	}
	head, err := c.line(mostChunkHead)
	if err != nil {
		return err
	}
	size, extension, _ := strings.Cut(head, ";")
	n, parseErr := strconv.ParseInt(size, 16, 64)
	if parseErr != nil || n < 0 || n > mostChunk || n > c.left {
		return incomplete()
	}
	c.want, _ = strings.CutPrefix(extension, "chunk-signature=")
	c.rest, c.hash = n, sha256.New()
	c.left -= n
	if n > 0 {
		return nil
	}
	if c.left > 0 {
		return incomplete()
	}
	if err := c.verify(); err != nil {
		return err
	}
	return c.end()
}

// line reads a line that ends with CR LF.
func (c *chunks) line(most int) (string, error) {
	var line []byte
	for len(line) <= most {
		b, err := c.in.ReadByte()
		if err != nil {
			return "", incomplete()
		}
		if line = append(line, b); bytes.HasSuffix(line, []byte("\r\n")) {
			return string(line[:len(line)-2]), nil
		}
	}
	return "", incomplete()
}

// endChunk reads the line end after a chunk, and checks its signature.
func (c *chunks) endChunk() error {
	if text, err := c.line(len("\r\n")); err != nil || text != "" {
		return incomplete()
	}
	return c.verify()
}

func badChunk() *Error {
	return refuse(http.StatusForbidden, "SignatureDoesNotMatch", "The chunk signature we calculated does not match the signature you provided.")
}

func (c *chunks) verify() error {
	if c.signed == nil {
		return nil
	}
	text := strings.Join([]string{"AWS4-HMAC-SHA256-PAYLOAD", c.signed.at.Format(dateForm), c.signed.scope(), c.last, emptyPayloadNamed, hex.EncodeToString(c.hash.Sum(nil))}, "\n")
	got := hex.EncodeToString(mac(c.key, text))
	if !hmac.Equal([]byte(got), []byte(c.want)) {
		return badChunk()
	}
	c.last = got
	return nil
}

// end reads the trailer, if there is one, and checks its checksum and signature.
func (c *chunks) end() error {
	fields, signature, err := c.trailers()
	if err != nil {
		return err
	}
	if c.trailer == "" {
		return io.EOF
	}
	name := strings.ToLower(c.trailer)
	if c.signed != nil {
		text := strings.Join([]string{"AWS4-HMAC-SHA256-TRAILER", c.signed.at.Format(dateForm), c.signed.scope(), c.last, hexHash(name + ":" + fields[name] + "\n")}, "\n")
		if !hmac.Equal([]byte(hex.EncodeToString(mac(c.key, text))), []byte(signature)) {
			return badChunk()
		}
	}
	want, err := base64.StdEncoding.DecodeString(fields[name])
	if err != nil || !bytes.Equal(want, c.sum.Sum(nil)) {
		return badSum(name)
	}
	return io.EOF
}

// trailers reads the lines after the last chunk.
func (c *chunks) trailers() (fields map[string]string, signature string, err error) {
	fields = map[string]string{}
	for most := mostTrailer; most > 0; {
		line, err := c.line(most)
		if err != nil || line == "" {
			return fields, signature, err
		}
		most -= len(line)
		name, value, _ := strings.Cut(strings.TrimSuffix(line, "\n"), ":") // clients sign a line feed, and some send it, too
		if name = strings.ToLower(name); name == "x-amz-trailer-signature" {
			signature = value
		} else {
			fields[name] = value
		}
	}
	return nil, "", incomplete()
}

// asError converts an error of reading content to an error document.
func asError(err error) *Error {
	var refused *Error
	switch {
	case err == nil:
		return nil
	case errors.As(err, &refused):
		return refused
	case errors.Is(err, io.ErrUnexpectedEOF):
		return incomplete()
	}
	return refuse(http.StatusInternalServerError, "InternalError", "We encountered an internal error. Please try again. (%v)", err)
}
