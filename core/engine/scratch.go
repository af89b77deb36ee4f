package engine

import (
	"crypto/rand"
	"fmt"
	"regexp"
	"strconv"
	"strings"
	"time"
)

// ScratchAge is how old a scratch database must be to count as left behind by a service that
// was killed.
const ScratchAge = time.Hour

// ScratchName is a new name for a scratch database: a prefix, the time in seconds since 1970,
// and eight letters and digits by chance.
func ScratchName(prefix string, now time.Time) string {
	return fmt.Sprintf("%s%d_%s", prefix, now.Unix(), strings.ToLower(rand.Text()[:8]))
}

var scratchRest = regexp.MustCompile(`^([0-9]{10,18})_[0-9A-Za-z]{8}$`)

// ScratchMade is when a scratch database was made, by its name; false for every other
// database, also one whose name begins like that: that is a user's own, and must not be dropped.
func ScratchMade(prefix, name string) (time.Time, bool) {
	rest, is := strings.CutPrefix(name, prefix)
	parts := scratchRest.FindStringSubmatch(rest)
	if !is || parts == nil {
		return time.Time{}, false
	}
	seconds, err := strconv.ParseInt(parts[1], 10, 64)
	return time.Unix(seconds, 0), err == nil
}

// ScratchLeft reports whether a database is a scratch database that was left behind.
func ScratchLeft(prefix, name string, now time.Time) bool {
	made, is := ScratchMade(prefix, name)
	return is && now.Sub(made) > ScratchAge
}
