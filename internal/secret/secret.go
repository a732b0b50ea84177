// Package secret encrypts what must not be read from the records, such as the
// passwords of databases, with AES-256 in Galois/Counter Mode (NIST SP 800-38D).
package secret

import (
	"crypto/aes"
	"crypto/cipher"
	"crypto/rand"
	"encoding/hex"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"

	"noemata/internal/core/problem"
)

// Variable is the environment variable that may hold the key, as 64 hexadecimal
// digits.
const Variable = "NOEMATA_KEY"

// Box encrypts and decrypts with one key.
type Box struct{ aead cipher.AEAD }

// Open reads the key from the environment, or from a file that is made, for its
// owner alone, when it is missing.
func Open(file string) (*Box, error) {
	text := os.Getenv(Variable)
	if text == "" {
		content, err := readKey(file)
		if errors.Is(err, os.ErrNotExist) {
			content, err = makeKey(file)
		}
		if err != nil {
			return nil, fmt.Errorf("read the key file: %w", err)
		}
		text = strings.TrimSpace(string(content))
	}
	key, err := hex.DecodeString(text)
	if err != nil || len(key) != 32 {
		return nil, problem.New(problem.Invalid, "The key for stored passwords is not 64 hexadecimal digits.",
			fmt.Sprintf("Correct %s or the file %s.", Variable, file))
	}
	block, err := aes.NewCipher(key)
	if err != nil {
		return nil, fmt.Errorf("prepare encryption: %w", err)
	}
	aead, err := cipher.NewGCM(block)
	if err != nil {
		return nil, fmt.Errorf("prepare encryption: %w", err)
	}
	return &Box{aead}, nil
}

// readKey reads a key file that is its owner's alone.
func readKey(file string) ([]byte, error) {
	info, err := os.Stat(file)
	if err != nil {
		return nil, err
	}
	if info.Mode().Perm()&0o077 != 0 {
		return nil, problem.Newf(problem.Invalid, "chmod 600 "+file,
			"The key file %s can be read by others than its owner (%s).", file, info.Mode().Perm())
	}
	return os.ReadFile(file)
}

func makeKey(file string) ([]byte, error) {
	if err := os.MkdirAll(filepath.Dir(file), 0o711); err != nil {
		return nil, err
	}
	key := make([]byte, 32)
	_, _ = rand.Read(key) // never fails (crypto/rand)
	text := []byte(hex.EncodeToString(key) + "\n")
	f, err := os.OpenFile(file, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o600)
	if err != nil {
		return nil, err
	}
	_, err = f.Write(text)
	return text, errors.Join(err, f.Sync(), f.Close())
}

// Seal encrypts text. about, such as the name of what it belongs to, must be given
// to Open again.
func (b *Box) Seal(text, about string) []byte {
	nonce := make([]byte, b.aead.NonceSize())
	_, _ = rand.Read(nonce)
	return b.aead.Seal(nonce, nonce, []byte(text), []byte(about))
}

// Open decrypts what Seal made; what names it in the error.
func (b *Box) Open(sealed []byte, about, what string) (string, error) {
	n := b.aead.NonceSize()
	if len(sealed) < n {
		return "", errors.New("the stored password is damaged")
	}
	text, err := b.aead.Open(nil, sealed[:n], sealed[n:], []byte(about))
	if err != nil {
		return "", problem.Wrap(err, problem.Failed, "The stored password of "+what+
			" cannot be decrypted: the key, or what the password was given for, is another.",
			"Put the old key back, or set the password again.")
	}
	return string(text), nil
}
