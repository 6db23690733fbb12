package cms

import (
	"crypto/hmac"
	"crypto/md5"
	"crypto/rand"
	"crypto/sha512"
	"crypto/subtle"
	"encoding/base64"
	"strings"

	"golang.org/x/crypto/bcrypt"
)

// schemes are the ways to keep a password that a definition may name.
var schemes = []string{"phpass", "bcrypt", "bcrypt-sha384", "own"}

func hashWith(scheme, password string) string {
	switch scheme {
	case "own":
		return password
	case "bcrypt", "bcrypt-sha384":
		input, mark := []byte(password), ""
		if scheme == "bcrypt-sha384" {
			input, mark = bcryptInput(password), "$wp"
		}
		if hash, err := bcrypt.GenerateFromPassword(input, 10); err == nil {
			return mark + strings.Replace(string(hash), "$2a$", "$2y$", 1)
		}
	}
	return phpassHash(password) // which a reader of bcrypt reads as well
}

// bcryptInput is what WordPress from 6.8 on gives to bcrypt (wp_hash_password in wp-includes/pluggable.php): bcrypt itself reads 72
// bytes only.
func bcryptInput(password string) []byte {
	mac := hmac.New(sha512.New384, []byte("wp-sha384"))
	mac.Write([]byte(strings.Trim(password, " \n\r\t\v\x00")))
	return []byte(base64.StdEncoding.EncodeToString(mac.Sum(nil)))
}

func passwordMatches(password, stored string) bool {
	if hash, ok := strings.CutPrefix(stored, "$wp"); ok {
		return bcrypt.CompareHashAndPassword([]byte(strings.Replace(hash, "$2y$", "$2a$", 1)), bcryptInput(password)) == nil
	}
	if strings.HasPrefix(stored, "$2y$") {
		return bcrypt.CompareHashAndPassword([]byte(strings.Replace(stored, "$2y$", "$2a$", 1)), []byte(password)) == nil
	}
	return phpassMatches(password, stored)
}

// WordPress up to 6.7 stores passwords in the "portable" form of phpass (wp-includes/class-phpass.php): MD5, 2^n times.
const phpassAlphabet = "./0123456789ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz"

func phpassHash(password string) string {
	random := make([]byte, 8)
	rand.Read(random)
	salt := make([]byte, 8)
	for i, b := range random {
		salt[i] = phpassAlphabet[b&63]
	}
	return phpassWith(password, "$P$B"+string(salt)) // B: 2^13 rounds, WordPress's own choice
}

// phpassMatches tells whether a stored hash is that of the password.
func phpassMatches(password, stored string) bool {
	if len(stored) != 34 || stored[:3] != "$P$" {
		return false
	}
	return subtle.ConstantTimeCompare([]byte(phpassWith(password, stored[:12])), []byte(stored)) == 1
}

func phpassWith(password, setting string) string {
	rounds := 0
	for i := range phpassAlphabet {
		if phpassAlphabet[i] == setting[3] {
			rounds = 1 << i
		}
	}
	sum := md5.Sum([]byte(setting[4:12] + password))
	text := append(make([]byte, 16), password...)
	for range rounds {
		copy(text, sum[:])
		sum = md5.Sum(text)
	}
	return setting + phpassEncode(sum[:])
}

func phpassEncode(data []byte) string {
	out := []byte{}
	for i := 0; i < len(data); i += 3 {
		value := uint(data[i])
		out = append(out, phpassAlphabet[value&63])
		if i+1 < len(data) {
			value |= uint(data[i+1]) << 8
		}
		out = append(out, phpassAlphabet[value>>6&63])
		if i+1 >= len(data) {
			break
		}
		if i+2 < len(data) {
			value |= uint(data[i+2]) << 16
		}
		out = append(out, phpassAlphabet[value>>12&63])
		if i+2 >= len(data) {
			break
		}
		out = append(out, phpassAlphabet[value>>18&63])
	}
	return string(out)
}
