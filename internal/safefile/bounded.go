package safefile

import "io"

// Bounded writes so many bytes at the most; what would be more fails, and is not written.
func Bounded(to io.Writer, most int64, tooLong error) io.Writer { return &bounded{to, most, tooLong} }

type bounded struct {
	to      io.Writer
	left    int64
	tooLong error
}

func (b *bounded) Write(text []byte) (int, error) {
	if b.left -= int64(len(text)); b.left < 0 {
		return 0, b.tooLong
	}
	return b.to.Write(text)
}
