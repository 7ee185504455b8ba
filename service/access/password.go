package access

import (
	"crypto/rand"
	"crypto/subtle"
	"encoding/base64"
	"fmt"
	"strings"

	"golang.org/x/crypto/argon2"

	"bridgespan/core/fault"
)

// Argon2id parameters (RFC 9106, section 4, and the usual advice for
// interactive use): 19 MiB, two passes, one lane.
const (
	mostPassword = 1024      // bytes
	argonMemory  = 19 * 1024 // KiB
	argonPasses  = 2
	argonLanes   = 1
	argonKey     = 32
	argonSalt    = 16
)

// hashing bounds how many passwords are worked on at once: each takes 19 MiB.
var hashing = make(chan struct{}, 4)

// MinPassword is the shortest password accepted, in characters.
const MinPassword = 10

func checkPassword(field, password string) error {
	if n := len([]rune(password)); n < MinPassword {
		return fault.Field(field, fmt.Sprintf("use at least %d characters; a few unrelated words are good", MinPassword), "the password has %d characters", n)
	}
	if len(password) > mostPassword {
		return fault.Field(field, "use at most 1024 bytes", "the password is too long")
	}
	return nil
}

// hashPassword returns the usual text form, $argon2id$v=19$m=…,t=…,p=…$salt$key.
func hashPassword(password string) string {
	salt := make([]byte, argonSalt)
	_, _ = rand.Read(salt)
	b64 := base64.RawStdEncoding
	return fmt.Sprintf("$argon2id$v=%d$m=%d,t=%d,p=%d$%s$%s", argon2.Version, argonMemory, argonPasses, argonLanes,
		b64.EncodeToString(salt), b64.EncodeToString(derive(password, salt, argonMemory, argonPasses, argonLanes)))
}

func derive(password string, salt []byte, memory, passes uint32, lanes uint8) []byte {
	hashing <- struct{}{}
	defer func() { <-hashing }()
	return argon2.IDKey([]byte(password), salt, passes, memory, lanes, argonKey)
}

// matches compares a password with a hash made with any parameters.
func matches(password, hash string) bool {
	parts := strings.Split(hash, "$")
	var memory, passes uint32
	var lanes uint8
	if len(parts) != 6 || parts[1] != "argon2id" {
		return false
	}
	if _, err := fmt.Sscanf(parts[3], "m=%d,t=%d,p=%d", &memory, &passes, &lanes); err != nil {
		return false
	}
	salt, err1 := base64.RawStdEncoding.DecodeString(parts[4])
	key, err2 := base64.RawStdEncoding.DecodeString(parts[5])
	if err1 != nil || err2 != nil {
		return false
	}
	return subtle.ConstantTimeCompare(derive(password, salt, memory, passes, lanes), key) == 1
}
