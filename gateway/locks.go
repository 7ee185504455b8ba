package gateway

import (
	"crypto/rand"
	"encoding/hex"
	"errors"
	"io/fs"
	"net/http"
	"strconv"
	"strings"
	"time"

	"bridgespan/core/lock"
	"bridgespan/gateway/dav"
	"bridgespan/records"
	"bridgespan/service/estate"
	"bridgespan/tree"
)

// Lives of locks. A client that is still there refreshes its own in time.
const (
	lockUsual = 10 * time.Minute
	lockMost  = time.Hour
)

// newToken makes a token that nobody can guess (RFC 4918, section 6.5; RFC 9562, section 5.4).
func newToken() string {
	var b [16]byte
	_, _ = rand.Read(b[:]) // it never fails
	b[6], b[8] = b[6]&0x0f|0x40, b[8]&0x3f|0x80
	h := hex.EncodeToString(b[:])
	return "urn:uuid:" + h[:8] + "-" + h[8:12] + "-" + h[12:16] + "-" + h[16:20] + "-" + h[20:]
}

// holder is how a person is written at their locks.
func (who person) holder() string {
	if who.domain != "" {
		return who.domain + `\` + who.account
	}
	return who.account
}

// timeout reads for how long a lock is wanted (section 10.7): the first wish
// that can be understood, within our bound.
func timeout(header string) time.Duration {
	for one := range strings.SplitSeq(header, ",") {
		one = strings.TrimSpace(one)
		if strings.EqualFold(one, "infinite") {
			return lockMost
		}
		if seconds, found := strings.CutPrefix(one, "Second-"); found {
			if n, err := strconv.ParseUint(seconds, 10, 32); err == nil {
				return max(time.Second, min(time.Duration(n)*time.Second, lockMost))
			}
		}
	}
	return lockUsual
}

// lock takes a lock, or lets one run on.
func (q *request) lock() error {
	info, err := dav.ParseLockInfo(q.body)
	if err != nil {
		return refuse(http.StatusBadRequest, "%v", err)
	}
	if info.Refresh {
		return q.refresh()
	}
	ctx := q.r.Context()
	depth := q.r.Header.Get("Depth")
	if depth != "" && depth != "0" && depth != "infinity" {
		return refuse(http.StatusBadRequest, "Depth of a lock is 0 or infinity")
	}
	l := lock.Lock{Token: newToken(), Path: q.name, Key: keyOfPath(q.name), Account: q.who.holder(), Owner: info.Owner, Shared: info.Shared, Deep: depth != "0", Until: now().Add(timeout(q.r.Header.Get("Timeout")))}
	if len(l.Key) > records.MostGatewayKey {
		return refuse(http.StatusInsufficientStorage, "the path is too long for a lock: %d bytes of at most %d", len(l.Key), records.MostGatewayKey)
	}
	p, err := q.inTree(q.name, false)
	if err != nil {
		return err
	}
	_, there, err := q.there(q.name, p)
	if err != nil {
		return err
	}
	// Who may not write has no use for a lock, and would only be in the way.
	if there {
		err = estate.MayWrite(ctx, p.tree, p.rest)
	} else if err = q.hasFolder(ctx, p); err == nil {
		err = q.unlocked(changeOf(q.name, false, true)...)
	}
	if err != nil {
		return err
	}
	if err := q.gateway.book.take(ctx, l); err != nil {
		if by, locked := byWhom(err); locked {
			return &refusal{http.StatusLocked, "no-conflicting-lock", by.Path + " is locked by " + by.Account + " until " + by.Until.Format(time.RFC3339), []string{dav.Href(by.Path, false)}}
		}
		if errors.Is(err, records.ErrTooManyLocks) {
			return refuse(http.StatusInsufficientStorage, "%v; give some back, or wait until they end", err)
		}
		return err
	}
	if !there { // a lock on nothing makes an empty file (section 7.3)
		delete(q.known, q.name)
		if _, err := p.tree.Put(ctx, p.rest, strings.NewReader(""), tree.PutOptions{}); err != nil && !errors.Is(err, fs.ErrExist) {
			_, _ = q.gateway.book.release(ctx, l.Token) // it runs out by itself
			return err
		}
	}
	q.w.Header().Set("Lock-Token", "<"+l.Token+">")
	q.tellLock(l, created(!there))
	return nil
}

// tellLock answers with a lock. 204 would be an answer without one.
func (q *request) tellLock(l lock.Lock, status int) {
	if status == http.StatusNoContent {
		status = http.StatusOK
	}
	b := []byte(`<?xml version="1.0" encoding="utf-8"?><D:prop xmlns:D="DAV:"><D:lockdiscovery>`)
	b = activeLock(b, l)
	q.w.Header().Set("Content-Type", "application/xml; charset=utf-8")
	q.w.WriteHeader(status)
	_, _ = q.w.Write(append(b, "</D:lockdiscovery></D:prop>\n"...)) // whoever asked may be gone
}

// activeLock writes a lock (section 14.1).
func activeLock(b []byte, l lock.Lock) []byte {
	scope, depth := "exclusive", "0"
	if l.Shared {
		scope = "shared"
	}
	if l.Deep {
		depth = "infinity"
	}
	b = append(b, "<D:activelock><D:locktype><D:write/></D:locktype><D:lockscope><D:"+scope+"/></D:lockscope><D:depth>"+depth+"</D:depth>"...)
	b = append(b, l.Owner...)
	b = append(b, "<D:timeout>Second-"...)
	b = strconv.AppendInt(b, max(int64(time.Until(l.Until).Seconds()+0.5), 0), 10)
	b = append(b, "</D:timeout><D:locktoken>"...)
	b = dav.Text(b, "href", l.Token)
	b = append(b, "</D:locktoken><D:lockroot>"...)
	b = dav.Text(b, "href", dav.Href(l.Path, false))
	return append(b, "</D:lockroot></D:activelock>"...)
}

// refresh lets a lock that the If header names run on (section 9.10.2).
func (q *request) refresh() error {
	tokens := q.held.Tokens()
	if len(tokens) != 1 {
		return refuse(http.StatusBadRequest, "to take a lock, say which; to refresh one, name its token in the If header")
	}
	l, err := q.ourLock(tokens[0])
	if err != nil {
		return err
	}
	l.Until = now().Add(timeout(q.r.Header.Get("Timeout")))
	held, err := q.gateway.book.RefreshGatewayLock(q.r.Context(), l.Token, l.Until, now())
	if err != nil || !held {
		return cmpErr(err, refuse(http.StatusPreconditionFailed, "the lock ran out"))
	}
	q.tellLock(l, http.StatusOK)
	return nil
}

// ourLock finds the lock of a token, which must be on what is asked for, and
// taken by whoever asks.
func (q *request) ourLock(token string) (lock.Lock, error) {
	key := keyOfPath(q.name)
	held, err := q.gateway.book.around(q.r.Context(), key)
	if err != nil {
		return lock.Lock{}, err
	}
	for _, l := range held {
		if l.Token != token || !l.Covers(key) {
			continue
		}
		if !strings.EqualFold(l.Account, q.who.holder()) {
			return l, refuse(http.StatusForbidden, "the lock is held by %s", l.Account)
		}
		return l, nil
	}
	return lock.Lock{}, &refusal{http.StatusConflict, "lock-token-matches-request-uri", "there is no such lock here", nil}
}

// unlock gives a lock back.
func (q *request) unlock() error {
	token := strings.TrimSpace(q.r.Header.Get("Lock-Token"))
	if len(token) < 3 || token[0] != '<' || token[len(token)-1] != '>' {
		return refuse(http.StatusBadRequest, "the header Lock-Token must name the lock, as <TOKEN>")
	}
	l, err := q.ourLock(token[1 : len(token)-1])
	if err != nil {
		return err
	}
	if _, err := q.gateway.book.release(q.r.Context(), l.Token); err != nil {
		return err
	}
	q.w.WriteHeader(http.StatusNoContent)
	return nil
}
