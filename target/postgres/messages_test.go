package postgres

import (
	"bytes"
	"encoding/binary"
	"io"
	"math/rand/v2"
	"strings"
	"testing"

	"github.com/jackc/pgx/v5/pgproto3"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func message(kind byte, body string) string {
	return string(kind) + string(binary.BigEndian.AppendUint32(nil, uint32(len(body)+4))) + body
}

// crumbs gives a text in small pieces of any size.
type crumbs struct {
	text   []byte
	random *rand.Rand
}

func (c *crumbs) Read(p []byte) (int, error) {
	if len(c.text) == 0 {
		return 0, io.EOF
	}
	n := copy(p[:min(len(p), 1+c.random.IntN(5000))], c.text)
	c.text = c.text[n:]
	return n, nil
}

func TestMessagesAreBounded(t *testing.T) {
	long := strings.Repeat("ä", 30_000)
	report := func(text string) string {
		return message('E', "SERROR\x00C22012\x00M"+text+"\x00D"+text+text+"\x00Hshort\x00\x00")
	}
	row := strings.Repeat("x", mostRow+1)
	in := message('Z', "I") + message('1', "") + message('A', "\x00\x00\x00\x01channel\x00payload\x00") + message(
		'D', row,
	) +
		report(long) + message(
		'D', "small",
	) + report("short") + message('N', "SNOTICE\x00M"+long+"\x00\x00") + message('C', "SELECT 1\x00")
	shown := strings.Repeat("ä", mostWords/2)
	cut := report("!")
	cut = message(
		'E',
		strings.NewReplacer("M!", "M"+shown+" … (cut here; 43616 more bytes)", "D!!",
			"D"+shown+" … (cut here; 103616 more bytes)").
			Replace(cut[5:]),
	)
	notice := message('N', "SNOTICE\x00M"+shown+" … (cut here; 43616 more bytes)\x00\x00")
	for steps, rows := range map[bool]string{true: "", false: message('D', row)} {
		want := message('Z', "I") + message('1', "") + rows + cut + message('D', "small") + report(
			"short",
		) + notice + message('C', "SELECT 1\x00")
		for seed := range uint64(20) {
			got, err := io.ReadAll(&messages{from: &crumbs{[]byte(in), rand.New(rand.NewPCG(seed, 1))}, steps: steps})
			require.NoError(t, err)
			require.True(t, want == string(got), "seed %d", seed)
		}
	}
}

// FuzzMessages: whatever a server sends, what comes out is a sequence of messages
// as well, and no error or notice is longer than it may be.
func FuzzMessages(f *testing.F) {
	f.Add([]byte(message('E', "SERROR\x00\x00")), uint64(1))
	f.Add([]byte(message('E', strings.Repeat("M\x00", 20_000))), uint64(2))
	f.Add([]byte(message('N', strings.Repeat("M", 20_000))+message('A', "x")+message('Z', "I")), uint64(3))
	f.Fuzz(func(t *testing.T, in []byte, seed uint64) {
		out, err := io.ReadAll(&messages{from: &crumbs{bytes.Clone(in), rand.New(rand.NewPCG(seed, 1))}, steps: true})
		require.NoError(t, err)
		for len(out) >= 5 {
			size := int(binary.BigEndian.Uint32(out[1:])) + 1
			if out[0] == 'E' || out[0] == 'N' {
				assert.LessOrEqual(t, size, mostReport+2*mostWords+200)
			}
			assert.NotEqual(t, byte('A'), out[0])
			out = out[min(max(size, 5), len(out)):]
		}
		_ = pgproto3.NewFrontend(bytes.NewReader(out), io.Discard)
	})
}
