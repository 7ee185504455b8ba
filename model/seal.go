package model

import "time"

// Sealing says how the files of a bucket are sealed: encrypted before they are sent there.
type Sealing struct {
	Names bool `json:"names,omitempty" doc:"Whether names are sealed, too, and not contents alone"`
	// RecoveryKeys are checked by package seal.
	RecoveryKeys []string `json:"recoveryKeys" maxItems:"8" doc:"Public keys of age: with the private key of any of them, the files can be opened without Bridge Span"`
}

// SealedFolder is a folder of a bucket whose files are sealed.
type SealedFolder struct {
	Server string `json:"server" doc:"Name of the cloud account"`
	Bucket string `json:"bucket" doc:"Name of the bucket"`
	Folder string `json:"folder,omitempty" doc:"Folder in the bucket; all of it when absent"`
	Sealing
	Recipient string    `json:"recipient" doc:"Public key of age that its files are encrypted to"`
	Set       string    `json:"set,omitempty" doc:"Name of the cloud set in the folder; absent when there is none"`
	Created   time.Time `json:"created" doc:"When it was sealed, or its key imported"`
	By        string    `json:"by" doc:"Who did that"`
	Version   int64     `json:"version" doc:"Goes up with every change; the ETag"`
}

// KeyImport is a key with which a folder of a bucket was sealed before.
type KeyImport struct {
	Server string `json:"server" minLength:"1" maxLength:"200" doc:"Name of the cloud account"`
	Bucket string `json:"bucket" minLength:"1" maxLength:"63" doc:"Name of the bucket"`
	Folder string `json:"folder,omitempty" maxLength:"1024" doc:"Folder in the bucket; all of it when absent"`
	Sealing
	Key string `json:"key" minLength:"1" maxLength:"65536" writeOnly:"true" doc:"Private key of the folder in the text form of age, which recovery keys open in its object .bspan/key.age"`
}

// EditSealedFolder gives a sealed folder other recovery keys.
type EditSealedFolder struct {
	RecoveryKeys []string `json:"recoveryKeys" maxItems:"8" doc:"All public keys of age that open the key of the folder from now on"`
}

// RecoveryKey is a new pair of keys. The service does not keep it.
type RecoveryKey struct {
	Public  string `json:"public" doc:"Public key of age"`
	Private string `json:"private" doc:"Text of the file with the private key; it is shown once"`
}
