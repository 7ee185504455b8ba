package dedup

// What a store needs beside the chunks themselves, in bytes: see package pack.
const (
	ChunkCost = 92 // of each chunk: 40 before it, 52 in the index
	RefCost   = 8  // of each time that a file has it
	FileCost  = 64 // of each file, and its path
)

// Inspected is what is in a store.
type Inspected struct {
	Profile   Profile   `json:"profile"`
	Files     int64     `json:"files"`
	Bytes     int64     `json:"bytes" doc:"Of all files"`
	Chunks    int64     `json:"chunks" doc:"Different ones"`
	ChunkSize int64     `json:"chunkBytes" doc:"What they hold"`
	Packed    int64     `json:"packedBytes" doc:"What they take once compressed"`
	Refs      int64     `json:"references" doc:"How often files have a chunk"`
	Shared    []Sharing `json:"sharing" doc:"How many chunks occur how often"`
	Stored    int64     `json:"storedBytes" doc:"What all of the store takes"`
}

// Sharing is how many chunks occur so often.
type Sharing struct {
	From   int64 `json:"from" doc:"Times, at least"`
	Chunks int64 `json:"chunks"`
	Bytes  int64 `json:"bytes"`
}

// StoredChunk is a chunk of a store.
type StoredChunk struct {
	Number      int64    `json:"number" doc:"In the index of the store, from 0"`
	Fingerprint string   `json:"fingerprint" doc:"BLAKE3, in hexadecimal digits"`
	Length      int64    `json:"length"`
	Packed      int64    `json:"packed" doc:"What it takes once compressed"`
	Refs        int64    `json:"references" doc:"How often files have it"`
	Paths       []string `json:"paths" doc:"Some of these files"`
}
