package records

import (
	"cmp"
	"context"
	"time"

	"bridgespan/core/chunk"
)

// usualMostLists is how many bytes the lists of chunks may take: those of some 120 GB
// of contents.
const usualMostLists = 256 << 20

// longestList is how many bytes a list may take for the database to take it: that of
// some 1.3 TB of one content.
const longestList = 12 << 20

// The lists are counted after so many were kept, and so many go at a time.
const (
	countListsEvery = 64
	listsAtOnce     = 100
)

const (
	listStatement     = `SELECT content FROM chunk_lists WHERE digest = ?`
	keepListStatement = `INSERT INTO chunk_lists (digest, kept, bytes, content) VALUES (?, ?, ?, ?)
	ON DUPLICATE KEY UPDATE kept = VALUES(kept), bytes = VALUES(bytes), content = VALUES(content)`
)

// Chunks returns what a content is made of, as far as that is kept; else a list
// without chunks.
func (s *Replication) Chunks(ctx context.Context, d chunk.Digest) (l chunk.List, err error) {
	rows, err := s.db.often(ctx, listStatement, d[:])
	forms, err := collect(rows, err, func(s scanner) (form []byte, err error) {
		err = s.Scan(&form)
		return form, err
	})
	if err != nil || len(forms) == 0 {
		return l, err
	}
	if err := l.UnmarshalBinary(forms[0]); err != nil || l.Digest != d {
		return chunk.List{}, nil // of another version: as if it were not kept
	}
	return l, nil
}

// KeepChunks keeps what a content is made of, unless that is longer than any list that
// is kept. When there is no room for all, what was kept first goes.
func (s *Replication) KeepChunks(ctx context.Context, l chunk.List) error {
	form, err := l.AppendBinary(nil)
	if err != nil || len(form) > longestList {
		return err
	}
	if _, err := s.db.ready(ctx, keepListStatement); err != nil {
		return err
	}
	err = s.db.Change(ctx, func(tx *Tx) error {
		_, err := tx.statement(ctx, keepListStatement).ExecContext(ctx, l.Digest[:], time.Now().UTC(), len(form), form)
		return unavailable(err)
	})
	if err == nil && s.listsKept.Add(1)%countListsEvery == 1 {
		err = s.forgetLists(ctx)
	}
	return err
}

// forgetLists makes room: the oldest lists go.
func (s *Replication) forgetLists(ctx context.Context) error {
	var all int64
	if err := s.db.run.QueryRowContext(ctx, `SELECT COALESCE(SUM(bytes), 0) FROM chunk_lists`).Scan(&all); err != nil {
		return unavailable(err)
	}
	for over := all - cmp.Or(s.MostLists, usualMostLists); over > 0; {
		rows, err := s.db.run.QueryContext(ctx, `SELECT digest, bytes FROM chunk_lists ORDER BY kept LIMIT ?`, listsAtOnce)
		oldest, err := collect(rows, err, func(s scanner) (k keptList, err error) {
			err = s.Scan(&k.digest, &k.bytes)
			return k, err
		})
		if err != nil || len(oldest) == 0 {
			return err
		}
		var digests []any
		for _, k := range oldest {
			if over > 0 {
				digests = append(digests, k.digest)
				over -= k.bytes
			}
		}
		if err := s.db.Change(ctx, func(tx *Tx) error {
			_, _, err := tx.exec(ctx, `DELETE FROM chunk_lists WHERE digest IN (`+placeholders(len(digests))+`)`, digests...)
			return err
		}); err != nil {
			return err
		}
	}
	return nil
}

type keptList struct {
	digest []byte
	bytes  int64
}
