package sets

import (
	"context"

	"bridgespan/core/finding"
	"bridgespan/core/namespace"
	"bridgespan/model"
)

// JudgeSealing says what it means that the files of a bucket are sealed; empty is true when nothing is in it yet.
func (s *Base) JudgeSealing(ctx context.Context, at namespace.Target, how *model.Sealing, empty bool) (finding.Finding, error) {
	_, already, err := s.DB.SealedFolder(ctx, at)
	return judgeSealing(at.String(), how, empty || already), err
}

func judgeSealing(subject string, how *model.Sealing, clean bool) finding.Finding {
	found := "Contents of files are encrypted before they are sent; names are not"
	if how.Names {
		found = "Contents and names of files are encrypted before they are sent"
	}
	const meaning = "the files can be read with Bridge Span, or with a client of age and a recovery key, and with nothing else"
	switch {
	case clean:
		return finding.New(finding.Pass, "sealing", subject, found, meaning, "")
	case how.Names:
		return finding.New(finding.Fail, "sealing", subject, "Names are to be sealed, and the folder holds files already", "the set would not see them", "choose an empty folder of the bucket, or seal contents alone")
	}
	return finding.New(finding.Warn, "sealing", subject, found+". The folder holds files already", "these stay plain until they change", "choose an empty folder of the bucket, if nobody may read them")
}
