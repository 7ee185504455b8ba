package main

import (
	"encoding/json"
	"maps"
	"strings"
	"testing"
)

// What a service answers about one volume.
const (
	figures      = `"now":"2026-11-01T10:00:00Z","profile":"documents","files":30,"bytes":3000000,"allocatedBytes":3000000,"holeBytes":0,"left":[{"why":"too small","files":3,"bytes":300}],"inPolicy":{"why":"in policy","files":27,"bytes":2999700},"chunks":90,"differentChunks":60,"unique":{"bytes":2000000,"low":1900000,"high":2100000},"packed":{"bytes":1500000,"low":1400000,"high":1600000},"metadataBytes":9000,"saving":{"bytes":1490000,"low":1390000,"high":1590000},"exact":false,"sampled":4,"measured":9`
	bedsFound    = `{"totals":{` + figures + `},"wholeFilesSaving":500000,"curve":[{"days":30,"files":9,"bytes":900000,"saving":{"bytes":1,"low":1,"high":1}}],"where":{"folders":{"name":"all","files":27,"bytes":2999700,"storedBytes":1,"saving":1,"below":[{"name":"oak","files":27,"bytes":2999700,"storedBytes":1509700,"saving":1490000}]},"types":[{"name":".tif","files":27,"bytes":2999700,"storedBytes":1509700,"saving":1490000}],"ages":[],"sizes":[],"owners":[],"popular":[{"print":"0123456789abcdef0123","length":4096,"times":7,"spares":24576,"paths":["oak/beds/a.tif"]}],"near":[{"a":"oak/beds/a.tif","b":"oak/beds/b.tif","common":4096,"part":0.5}]},"twins":[{"files":2,"size":250000,"spares":250000,"paths":["oak/beds/a.tif","oak/beds/copy.tif"]}],"suggested":[{"what":"databases","why":"they change","leaveOut":["*.mdb"],"bytes":1,"saving":1,"readingPercent":31,"costsPercent":0.4}]}`
	bedsVolume   = `{"name":"beds","places":[{"server":"oak","share":"beds"}],"profile":"documents","created":"2026-11-01T09:00:00Z","proof":{"run":8,"at":"2026-11-01T10:00:00Z","folder":"oak/beds","predictedBytes":100,"realBytes":101,"offPercent":-0.99,"files":2,"bytes":300}`
	bedsEstimate = `{"run":{"id":7,"kind":"estimate","subject":"beds","state":"done","who":"ivy","created":"2026-11-01T10:00:00Z","fraction":1},"volume":` + bedsVolume + `},"asked":{},"progress":{"files":30,"bytes":3000000,"toReadBytes":3000000,"read":30,"readBytes":3000000,"readMs":1000,"busyMs":800,"savedBytes":1000000,"trouble":1,"unlisted":0,"troubles":["oak/beds/held.tif: in use"]},"warnings":[{"level":"warn","says":"the interval is wide","means":"it is","remedy":"count all"}],"found":` + bedsFound + `,"profileWhy":"because"}`
	bedsKnown    = bedsVolume + `,"latest":{"run":7,"at":"2026-11-01T10:00:00Z","totals":{` + figures + `},"capacityBytes":1,"freeBytes":1,"readBytes":1,"readMs":1,"busyMs":1},"trend":[],"runway":{"growthBytes":1,"storedBytes":1,"freeBytes":1,"withoutWeeks":11.5,"withWeeks":31.2},"version":7}`
	bedsAlone    = `{"name":"beds","files":27,"bytes":2999700,"stored":{"bytes":1509700,"low":1,"high":2},"saving":{"bytes":1490000,"low":1490000,"high":1490000}}`
	estimateRun5 = `{"id":5,"kind":"estimate","subject":"beds","state":"done","who":"ivy","created":"2026-11-01T10:00:00Z","fraction":1}`
)

func startDedupService(t *testing.T) *service {
	t.Helper()
	s := startService(t)
	maps.Copy(s.answers, map[string]string{
		"GET /dedup/volumes":                `{"items":[` + bedsKnown + `]}`,
		"GET /dedup/volumes/beds":           bedsKnown,
		"POST /dedup/estimates":             `{"run":` + estimateRun5 + `,"volume":` + bedsVolume + `},"asked":{},"progress":{},"warnings":[],"profileWhy":""}`,
		"GET /dedup/estimates/5":            bedsEstimate,
		"GET /dedup/estimates/7":            bedsEstimate,
		"GET /dedup/estimates/7/since/5":    `{"before":` + bedsEstimate + `,"after":` + bedsEstimate + `}`,
		"POST /dedup/look":                  `{"volume":` + bedsVolume + `},"profileWhy":"because","grounds":[{"server":"oak","share":"beds","capacityBytes":1024,"freeBytes":512,"fileSystem":"ext4"}],"warnings":[{"level":"fail","says":"oak/beds lies on the server's system volume","means":"no","remedy":"move it"}]}`,
		"POST /dedup/estimates/jobs":        `{"id":3,"kind":"estimate","subject":"beds","settings":"{}","rule":"sat 02:30","enabled":true,"who":"ivy","created":"2026-11-01T10:00:00Z","next":"2026-11-07T02:30:00Z","version":1}`,
		"POST /dedup/volumes/beds/what-ifs": `{"run":` + estimateRun5 + `,"volume":"beds","asked":{},"warnings":[]}`,
		"GET /dedup/what-ifs/5":             `{"run":` + estimateRun5 + `,"volume":"beds","asked":{},"found":` + bedsFound + `,"warnings":[]}`,
		"POST /dedup/pools":                 `{"run":` + estimateRun5 + `,"asked":{"volumes":["beds"]},"summary":""}`,
		"GET /dedup/pools/5":                `{"run":` + estimateRun5 + `,"asked":{"volumes":["beds"]},"pooled":{"alone":[` + bedsAlone + `],"together":` + bedsAlone + `,"gain":0,"shares":[],"common":[{"a":"oak/beds","b":"elm/beds","bytes":{"bytes":2048,"low":2048,"high":2048}}]},"summary":"They are alike."}`,
		"POST /dedup/volumes/beds/plan":     `{"volume":` + bedsVolume + `},"nights":{"windows":[{"day":6,"from":20,"hours":10,"pace":"20","backupHours":2}],"weekHours":10,"rateMbit":300,"first":{"bytes":1,"hours":1,"windows":1},"later":{"bytes":1,"hours":1,"windows":1},"begins":"2026-11-01T10:00:00Z","keepsUp":true},"memoryBytes":4096,"busyProcessors":0.8,"ofProcessors":2,"warnings":[],"summary":"It takes one night.","iCalendar":""}`,
		"POST /dedup/volumes/beds/proofs":   `{"run":` + estimateRun5 + `,"volume":"beds","asked":{"folder":"oak/beds"},"skipped":0,"different":[],"verdict":""}`,
		"GET /dedup/proofs/5":               `{"run":` + estimateRun5 + `,"volume":"beds","asked":{"folder":"oak/beds"},"skipped":0,"different":[],"verdict":"All came out.","kept":"/work/proof-5","store":{"profile":"documents","files":2,"bytes":300,"chunks":2,"chunkBytes":200,"packedBytes":100,"references":3,"sharing":[{"from":1,"chunks":1,"bytes":100},{"from":2,"chunks":1,"bytes":100},{"from":3,"chunks":0,"bytes":0},{"from":5,"chunks":0,"bytes":0}],"storedBytes":101}}`,
		"GET /dedup/stores":                 `{"items":[{"run":5,"volume":"beds","folder":"oak/beds","path":"/work/proof-5","bytes":101,"made":"2026-11-01T10:00:00Z","version":9}]}`,
		"GET /dedup/stores/5":               `{"run":5,"path":"/work/proof-5","bytes":101,"made":"2026-11-01T10:00:00Z","version":9}`,
		"GET /dedup/stores/5/chunks":        `{"items":[{"number":4,"fingerprint":"0123456789abcdef0123","length":2048,"packed":1024,"references":7,"paths":["oak/beds/a.tif"]}]}`,
	})
	return s
}

func TestDedupCommands(t *testing.T) {
	t.Setenv("BSPAN_TOKEN", "token")
	for _, c := range []struct {
		args string
		sent string
		says string
		code int
	}{
		{"dedup list", "", "1.4 MiB (1.3 MiB to 1.5 MiB)", 0},
		{"dedup list", "", "11 weeks; saving, 31 weeks", 0},
		{"dedup estimate oak/beds", `POST /dedup/estimates {"places":[{"server":"oak","share":"beds"}]}`, "Not read: oak/beds/held.tif: in use", 0},
		{"dedup estimate --no-wait --name all --profile backups --min-age 3 --min-size 32KiB --skip-folder cache --skip-folder /raw/ --skip-type mdb --budget 8MiB --exact --anyway --priority low --pace 20 --week off;sat beds",
			"", "is not a rule", 2},
		{"dedup estimate --no-wait --min-age 3 --min-size 32KiB --skip-folder cache --skip-folder /raw/ --skip-type mdb --budget 8MiB --exact --anyway --priority low --pace 20 beds",
			`POST /dedup/estimates {"policy":{"leaveOut":["cache/","/raw/","*.mdb"],"smallest":32768,"minDays":3},"budgetBytes":8388608,"exact":true,"anyway":true,"name":"beds","priority":"low","paceMbit":20}`, "estimate", 0},
		{"dedup estimate --week off;20-6~full beds", `POST /dedup/estimates {"name":"beds","calendar":"off; 0-6 full; 20-24 full"}`, "would be saved", 0},
		{"dedup estimate --rehearse oak/beds", `POST /dedup/look {"places":[{"server":"oak","share":"beds"}]}`, "FAIL: oak/beds lies on the server's system volume. No. To do: move it.", 0},
		{"dedup estimate --again sat~02:30 beds", `POST /dedup/estimates/jobs {"name":"beds","rule":"sat 02:30"}`, "job 3 estimates beds sat 02:30", 0},
		{"dedup estimate --min-size much beds", "", "no size", 2},
		{"dedup estimate oak", "", "oak", 2},
		{"dedup show 7", "", "(between 46.3% and 53.0%, with 95% confidence)", 0},
		{"dedup show beds", "", "Last proof: 0.99% off, on oak/beds", 0},
		{"dedup show beds", "", "WARN: the interval is wide. It is. To do: count all.", 0},
		{"dedup show beds", "", "Leaving out databases (*.mdb) costs 0.4% of the saving and spares 31% of the reading", 0},
		{"dedup show --by type beds", "", ".tif", 0},
		{"dedup show --by twins beds", "", "oak/beds/copy.tif", 0},
		{"dedup show --by near beds", "", "50%", 0},
		{"dedup show --by chunks beds", "", "0123456789abcdef", 0},
		{"dedup show --by min-age beds", "", "30 days", 0},
		{"dedup show --by colour beds", "", "none of folder", 2},
		{"dedup compare 5 7", "", "1.9 MiB (1.8 MiB to 2.0 MiB)", 0},
		{"dedup compare five 7", "", "is not a number", 2},
		{"dedup what-if --min-age 9 beds", `POST /dedup/volumes/beds/what-ifs {"policy":{"minDays":9}}`, "UNDER THIS POLICY", 0},
		{"dedup what-if --no-wait beds", `POST /dedup/volumes/beds/what-ifs {}`, "estimate", 0},
		{"dedup pool beds", `POST /dedup/pools {"volumes":["beds"]}`, "oak/beds and elm/beds have 2.0 KiB in common", 0},
		{"dedup plan --backups sat~full beds", `POST /dedup/volumes/beds/plan {"week":"full; mon 0-20 off; tue-fri 6-20 off","backups":"off; sat full"}`, "with 0.8 of 2 processors busy", 0},
		{"dedup plan beds", `POST /dedup/volumes/beds/plan {"week":"full; mon 0-20 off; tue-fri 6-20 off"}`, "20 Mbit/s", 0},
		{"dedup prove --keep beds oak/beds", `POST /dedup/volumes/beds/proofs {"folder":"oak/beds","keep":true}`, "The store is kept at /work/proof-5.", 0},
		{"dedup prove beds", "", "is missing", 2},
		{"dedup store list", "", "/work/proof-5", 0},
		{"dedup store inspect 5", "", "2 different chunks of 200 B", 0},
		{"dedup store inspect 5", "", "twice", 0},
		{"dedup store inspect --chunks 3 5", "", "0123456789abcdef", 0},
		{"dedup store remove 5", "DELETE /dedup/stores/5", "the store of run 5 is removed", 0},
		{"dedup forget beds", "DELETE /dedup/volumes/beds", "what was read of beds is forgotten", 0},
	} {
		t.Run(c.args, func(t *testing.T) {
			s := startDedupService(t)
			args := strings.Fields(c.args)
			for i := range args {
				args[i] = strings.ReplaceAll(args[i], "~", " ")
			}
			out, code := s.bspan(t, args...)
			last := ""
			if len(s.sent) > 0 {
				last = s.sent[len(s.sent)-1]
			}
			if code != c.code || !strings.Contains(out, c.says) || last != c.sent {
				t.Errorf("exit %d, want %d; sent %s, want %s; wants %q:\n%s", code, c.code, last, c.sent, c.says, out)
			}
		})
	}
	for _, args := range []string{"dedup list", "dedup show beds", "dedup show --by twins beds", "dedup compare 5 7", "dedup what-if beds", "dedup pool beds", "dedup plan beds", "dedup prove beds oak/beds", "dedup store list", "dedup store inspect 5", "dedup store inspect --chunks 3 5", "dedup store remove 5", "dedup estimate beds", "dedup estimate --rehearse beds", "dedup estimate --again daily beds", "dedup forget beds"} {
		s := startDedupService(t)
		out, code := s.bspan(t, append([]string{"--output", "json"}, strings.Fields(args)...)...)
		var value any
		if err := json.Unmarshal([]byte(out), &value); err != nil || code != 0 {
			t.Errorf("bspan %s: exit %d, %v: %s", args, code, err, out)
		}
	}
}
