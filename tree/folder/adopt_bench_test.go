package folder_test

import (
	"fmt"
	"os"
	"path/filepath"
	"syscall"
	"testing"

	"bridgespan/tree/folder"
)

// BenchmarkAdopt opens a folder whose descriptors an earlier version kept, as the first start of a mover does.
func BenchmarkAdopt(b *testing.B) {
	if os.Geteuid() != 0 {
		b.Skip("only the administrator carries descriptors over")
	}
	const files = 10_000
	dir := b.TempDir()
	for i := range files {
		name := filepath.Join(dir, fmt.Sprintf("%03d", i/100), fmt.Sprintf("%05d", i))
		if i%100 == 0 {
			if err := os.Mkdir(filepath.Dir(name), 0o755); err != nil {
				b.Fatal(err)
			}
		}
		if err := os.WriteFile(name, nil, 0o644); err != nil {
			b.Fatal(err)
		}
	}
	for b.Loop() {
		_ = syscall.Removexattr(dir, "trusted.bspan.kept")
		t, err := folder.OpenShared(dir, nil)
		if err != nil {
			b.Fatal(err)
		}
		t.Close()
	}
	b.ReportMetric(float64(b.Elapsed().Nanoseconds())/float64(b.N)/files, "ns/entry")
}
