package notice

import (
	"crypto/sha256"
	"encoding/hex"
)

// digest names a receiver in few letters, and not by an address that may hold a secret.
func digest(name string) string {
	sum := sha256.Sum256([]byte(name))
	return hex.EncodeToString(sum[:4])
}
