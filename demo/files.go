package demo

import (
	"fmt"
	"math/rand/v2"
	"strings"
	"time"

	"bridgespan/core/fault"
)

// Size is how much data the demo has.
type Size string

// scales are the factors of the sizes; default is about 300 MB.
var scales = map[Size]float64{"small": 0.02, "default": 1, "large": 8}

// CheckSize returns a fault for a size that there is not.
func CheckSize(s Size) error {
	if _, ok := scales[s]; !ok {
		return fault.Field("DEMO_SIZE", "use small, default or large", "%q is not a size of the demo", string(s))
	}
	return nil
}

// now is the day on which the scenario plays, which is today: ages are counted back
// from it, so that there is something that people changed in the last week. The data
// is the same on every machine but for dates.
var now = time.Now().UTC().Truncate(24 * time.Hour)

// maker makes the files of one share.
type maker struct {
	source *rand.Rand
	scale  float64
	files  []file
}

func newMaker(share string, scale float64) *maker {
	seed := uint64(0)
	for _, c := range share {
		seed = seed*131 + uint64(c)
	}
	return &maker{source: rand.New(rand.NewPCG(seed, 1)), scale: scale}
}

// age draws a time before now: few files are young, many are old.
func (m *maker) age(mostDays float64) time.Time {
	share := m.source.Float64()
	return now.Add(-time.Duration(share * share * mostDays * float64(24*time.Hour))).Truncate(time.Second)
}

// count scales a number of files, and never to none.
func (m *maker) count(n int) int { return max(2, int(float64(n)*m.scale)) }

func (m *maker) add(path string, k kind, size int64, days float64) {
	m.files = append(m.files, file{path: path, kind: k, seed: m.source.Uint64(), size: size, modified: m.age(days)})
}

// again adds a file with the content of an earlier one, or nearly so.
func (m *maker) again(path string, edits int) {
	original := m.files[m.source.IntN(len(m.files))]
	original.path, original.edits, original.modified = path, edits, m.age(900)
	m.files = append(m.files, original)
}

// moved adds a file that was made in one folder and moved to another: it keeps
// the permissions of the first.
func (m *maker) moved(from, to string, size int64) {
	m.add(to, prose, size, 200)
	m.files[len(m.files)-1].madeAs = from
}

// between draws a size, in bytes, mostly near the lower end.
func (m *maker) between(low, high int64) int64 {
	share := m.source.Float64()
	return low + int64(share*share*float64(high-low))
}

// filesOf makes the files of a share.
func filesOf(share string, size Size) []file {
	m := newMaker(share, scales[size])
	switch share {
	case "herbarium":
		m.herbarium()
	case "seedbank":
		m.seedbank()
	case "glasshouse":
		m.glasshouse()
	case "fieldnotes":
		m.fieldnotes()
	case "education":
		m.education()
	case "council":
		m.council()
	}
	for i := range m.files { // this year's papers are not finished yet
		if m.files[i].modified.After(now) {
			m.files[i].modified = now
		}
	}
	return m.files
}

func (m *maker) herbarium() {
	for i := range m.count(220) {
		folder := pick(m.source, families) + "/" + pick(m.source, genera)
		m.add(fmt.Sprintf("%s/LBT-%05d %s.tif", folder, 10000+i*7, pick(m.source, epithets)), scan, m.between(80<<10, 2200<<10), 9000)
	}
	for i := range m.count(20) {
		m.again(fmt.Sprintf("Loans/Copies for visitors/scan %03d.tif", i+1), 0)
	}
	for i := range m.count(14) {
		m.again(fmt.Sprintf("Retouched/plate %03d (retouched).tif", i+1), 3)
	}
	m.add("Loans/Private collections/Agreement with the Abbot's Fen estate.txt", prose, 4000, 3000)
	m.awkward()
}

// awkward adds names that are right, and that careless programs stumble over.
func (m *maker) awkward() {
	for _, name := range []string{
		"Größe & Maße (Entwurf).txt", "標本 №7.txt", "draft #3 100%.txt", "O'Malley’s “quoted” list.txt", "two  spaces.txt",
		"Cafe\u0301 labels (decomposed).txt", "UPPER lower MiXeD.TXT", "🌿 leaf.txt", ".hidden index.txt", "no extension", "semi;colon, comma=equals.txt",
		strings.Repeat("long specimen description ", 8) + "end.txt",
	} {
		m.add("Awkward names/"+name, prose, m.between(200, 4000), 2000)
	}
	m.add("Awkward names/"+strings.Repeat("deeper still/", 20)+"bottom.txt", prose, 900, 2000)
}

func (m *maker) seedbank() {
	for year := 1996; year <= now.Year(); year++ {
		m.add(fmt.Sprintf("Ledgers/%d/accessions %d.csv", year, year), ledger, int64(float64(m.between(300<<10, 900<<10))*max(m.scale, 0.05)), 1)
		m.files[len(m.files)-1].modified = time.Date(year, 12, 18, 15, 0, 0, 0, time.UTC)
	}
	for i := range m.count(12) {
		m.again(fmt.Sprintf("Backups/ledger copy %02d.csv", i+1), i%3)
	}
	m.add("Agreements/Material transfer.txt", prose, 8000, 4000)
	m.add("Germination tests.csv", ledger, m.between(60<<10, 200<<10), 20)
}

func (m *maker) glasshouse() {
	for _, house := range []string{"Alpine house", "Fern house", "Palm house", "Propagation"} {
		for i := range m.count(120) {
			day := now.AddDate(0, 0, -i)
			m.add(fmt.Sprintf("%s/%s/%s climate.csv", house, day.Format("2006-01"), day.Format("2006-01-02")), ledger, m.between(12<<10, 40<<10), 1)
			m.files[len(m.files)-1].modified = day
		}
	}
	m.add("Logger uploads/Palm house (raw).csv", ledger, 30<<10, 10)
}

func (m *maker) fieldnotes() {
	for i := range m.count(160) {
		day := now.AddDate(0, 0, -i*5)
		m.add(fmt.Sprintf("%d/%s %s.txt", day.Year(), day.Format("2006-01-02"), pick(m.source, places)), prose, m.between(1<<10, 24<<10), 1)
		m.files[len(m.files)-1].modified = day
	}
	for i := range m.count(40) {
		m.add(fmt.Sprintf("Photographs/%s/DSC%05d.jpg", pick(m.source, places), 2000+i), sealed, m.between(150<<10, 900<<10), 1500)
	}
}

func (m *maker) education() {
	for i := range m.count(45) {
		m.add(fmt.Sprintf("Courses/%s/lesson %02d.pdf", pick(m.source, []string{"Pollinators", "Soil", "Trees in winter", "Drawing plants"}), i+1), sealed, m.between(200<<10, 2<<20), 2500)
	}
	for i := range m.count(12) {
		m.again(fmt.Sprintf("School visits/2026/handout %02d.pdf", i+1), 0)
	}
	m.add("Staff only/Rota.csv", ledger, 12<<10, 30)
	m.moved("Staff only/Plan of the open day.txt", "Courses/Plan of the open day.txt", 5000)
}

func (m *maker) council() {
	for year := 2019; year <= now.Year(); year++ {
		for quarter := 1; quarter <= 4; quarter++ {
			m.add(fmt.Sprintf("Minutes/%d/Q%d minutes.txt", year, quarter), prose, m.between(6<<10, 40<<10), 1)
			m.files[len(m.files)-1].modified = time.Date(year, time.Month(quarter*3), 12, 18, 0, 0, 0, time.UTC)
		}
	}
	m.add("Accounts 2025-26 (draft).csv", ledger, 90<<10, 40)
	m.add("Papers for visitors/How the council works.txt", prose, 7000, 800)
}
