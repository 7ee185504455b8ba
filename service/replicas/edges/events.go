package edges

import (
	"cmp"
	"context"
	"crypto/rand"
	"crypto/sha256"
	"encoding/json"
	"net/url"
	"path"
	"slices"
	"strings"

	"bridgespan/core/fault"
	"bridgespan/model"
	"bridgespan/records"
	"bridgespan/service/access"
	"bridgespan/service/replicas/sets"
	"bridgespan/tree"
)

// Object services report changes in their buckets by event notifications ("Event message structure" of the S3 API reference). The folders
// of the objects are scanned at once: a change made directly in the bucket does not wait for the next sweep.

// NewEventToken makes the token for the event notifications of a cloud account. A token that was made before becomes invalid.
func (s *Edges) NewEventToken(ctx context.Context, server string) (t model.EventToken, err error) {
	v, err := s.DB.Server(ctx, server)
	if err != nil {
		return t, err
	}
	if !v.Can(model.HoldsBuckets) {
		return t, fault.Field("server", "name a cloud account", "%s has no buckets", v.Name)
	}
	t = model.EventToken{Server: v.Name, Path: model.EventPath, Token: rand.Text() + rand.Text()}
	hash := sha256.Sum256([]byte(t.Token))
	return t, s.DB.Change(ctx, func(tx *records.Tx) error {
		if err := tx.SetEventToken(ctx, v.Name, hash[:], sets.Now()); err != nil {
			return err
		}
		return tx.Record(ctx, access.Change(ctx, "server.event-token", v.Name, nil, map[string]any{"token": "new"}), "server")
	})
}

// mostEvents bounds the events of one notification.
const mostEvents = 10_000

// bucketEvents is a notification, as far as it is read.
type bucketEvents struct {
	Records []struct {
		S3 struct {
			Bucket struct {
				Name string `json:"name"`
			} `json:"bucket"`
			Object struct {
				Key string `json:"key"`
			} `json:"object"`
		} `json:"s3"`
	} `json:"Records"`
}

// BucketEvents has the folders scanned in which objects changed. The token is that of the account.
func (s *Edges) BucketEvents(ctx context.Context, token string, notification []byte) error {
	hash := sha256.Sum256([]byte(token))
	server, err := s.DB.EventServer(ctx, hash[:])
	if err != nil {
		return err
	}
	if server == "" {
		return fault.New(fault.Forbidden, "send the token of the account as a bearer token", "the token is unknown")
	}
	changed, err := foldersOf(notification)
	if err != nil {
		return err
	}
	replicas, names, err := s.DB.ReplicasAt(ctx, server, "")
	if err != nil {
		return err
	}
	for i, r := range replicas {
		path, err := s.Estate.SealedPath(ctx, r.Target())
		if err != nil {
			return err
		}
		if err := s.scanFolders(ctx, names[i], r, within(r.Sub, changed[r.Share], path)); err != nil {
			return err
		}
	}
	return nil
}

// scanFolders has the keeper of a set scan folders of a replica.
func (s *Edges) scanFolders(ctx context.Context, set string, r model.Replica, folders []string) error {
	if len(folders) == 0 {
		return nil
	}
	defer s.Changed()
	kept, err := s.DB.ReplicaSet(ctx, set)
	if err != nil {
		return err
	}
	if err := s.DB.Change(ctx, func(tx *records.Tx) error {
		return cmp.Or(tx.AddChangedFolders(ctx, kept.ID, r.ID, folders), tx.Notified(ctx, r.ID, sets.Now()))
	}); err != nil {
		return err
	}
	return s.DB.Tell(ctx, sets.LookTopic, kept.Name, sets.Now())
}

// foldersOf returns the folders of the changed objects by bucket. Objects below .bspan do not count.
func foldersOf(notification []byte) (map[string][]string, error) {
	var events bucketEvents
	if err := json.Unmarshal(notification, &events); err != nil {
		return nil, fault.Field("body", "send event notifications as S3 services do", "the notification cannot be read: %v", err)
	}
	if len(events.Records) > mostEvents {
		return nil, fault.Field("body", "send fewer events at a time", "%d events are more than %d", len(events.Records), mostEvents)
	}
	folders := map[string][]string{}
	for _, e := range events.Records {
		key, err := url.QueryUnescape(e.S3.Object.Key)
		if key = strings.TrimSuffix(key, "/"); err != nil || tree.CheckName("event", key) != nil {
			continue // a key that no file system can hold
		}
		if slices.ContainsFunc(strings.Split(key, "/"), tree.Reserved) {
			continue
		}
		folders[e.S3.Bucket.Name] = append(folders[e.S3.Bucket.Name], path.Dir(key))
	}
	for bucket, list := range folders {
		slices.Sort(list)
		folders[bucket] = slices.Compact(list)
	}
	return folders, nil
}

// within returns the folders below a folder of the bucket, by their paths within it. open returns the path of a key below it.
func within(sub string, folders []string, open func(key string) (string, bool)) (list []string) {
	for _, f := range folders {
		key, in := f, true
		switch {
		case sub == "":
		case f == sub:
			key = "."
		default:
			key, in = strings.CutPrefix(f, sub+"/")
		}
		if path, ok := open(key); in && ok {
			list = append(list, path)
		}
	}
	return list
}
