package folder

import (
	"encoding/hex"
	"errors"
	"strings"
	"testing"

	"bridgespan/tree"
)

// What Samba 4.17 keeps of O:BAG:BAD:P(A;OICI;0x1ff;;;BA)(A;OICI;0x1200a9;;;WD), in each version that it knows.
var (
	sambaSIDs   = "0102000000000005200000002002000001020000000000052000000020020000"
	sambaList   = "040034000200000000031800ff0100000102000000000005200000002002000000031400a9001200010100000000000100000000"
	keptBySamba = map[string]string{
		"version 1": "010001000000020001000490" + "1c0000002c000000000000003c000000" + sambaSIDs + sambaList,
		"version 2": "020002000000020004000200" + strings.Repeat("00", 16) + "01000490" + "30000000400000000000000050000000" + sambaSIDs + sambaList,
		"version 3": "0300030000000200040002000100" + strings.Repeat("00", 64) + "0000" + "01000490" + "64000000740000000000000084000000" + sambaSIDs + sambaList,
		"version 4": "0400040000000200040002000100" + strings.Repeat("00", 64) + hex.EncodeToString([]byte("posix_acl\x00")) + "8877665544332211" + strings.Repeat("09", 64) + "01000490" + "b4000000c400000000000000d4000000" + sambaSIDs + sambaList,
	}
)

func TestFromSamba(t *testing.T) {
	for what, text := range keptBySamba {
		kept, err := hex.DecodeString(text)
		if err != nil {
			t.Fatal(err)
		}
		d, err := fromSamba(kept)
		if err != nil {
			t.Errorf("%s: %v", what, err)
			continue
		}
		p := d.Parts()
		if e := p.Entries(); p.Owner.String() != "S-1-5-32-544" || len(e) != 2 || e[0].Mask != 0x1ff || e[1].Account.String() != "S-1-1-0" || e[1].Mask != 0x1200a9 {
			t.Errorf("%s: %s", what, d)
		}
		if again, err := fromSamba(toSamba(d)); err != nil || again != d {
			t.Errorf("%s: kept and read it is %s, %v", what, again, err)
		}
	}
	hashed, _ := hex.DecodeString(keptBySamba["version 3"])
	hashed[20] = 7
	if _, err := fromSamba(hashed); !errors.Is(err, errSambaHash) {
		t.Errorf("with the system's own: %v", err)
	}
}

func FuzzFromSamba(f *testing.F) {
	for _, text := range keptBySamba {
		kept, _ := hex.DecodeString(text)
		f.Add(kept)
	}
	f.Fuzz(func(t *testing.T, kept []byte) {
		d, err := fromSamba(kept)
		if err != nil || d.IsZero() {
			return
		}
		if again, err := fromSamba(toSamba(d)); err != nil || again != d {
			t.Errorf("%x: %s became %s, %v", kept, d, again, err)
		}
	})
}

// The attributes of Samba are changed in their place: the time beside them stays.
func TestSambaAttributes(t *testing.T) {
	kept, _ := hex.DecodeString("00000500050000001100000010000000934c1cf2ec80dd01")
	changed := attributesToSamba(kept, tree.Hidden|tree.Archive)
	if want := "00000500050000001100000032000000934c1cf2ec80dd01"; hex.EncodeToString(changed) != want {
		t.Errorf("changed to %x, want %s", changed, want)
	}
	if a := attributesFromSamba(changed); a != tree.Hidden|tree.Archive {
		t.Errorf("read as %x", a)
	}
	for what, other := range map[string]string{"nothing": "", "an old text": "307832300000", "cut": "0000050005000000110000", "not valid": "00000500050000001000000022000000934c1cf2ec80dd01"} {
		kept, _ := hex.DecodeString(other)
		if a := attributesFromSamba(kept); a != 0 {
			t.Errorf("%s: read as %x", what, a)
		}
		if a := attributesFromSamba(attributesToSamba(kept, tree.System)); a != tree.System {
			t.Errorf("%s: written and read as %x", what, a)
		}
	}
}
