package lane

import (
	"fmt"
	"regexp"
	"slices"
	"strings"
	"time"

	"go.yaml.in/yaml/v4"
)

// Window is when an environment may be changed: on some days of the week,
// between two times of the day, in a time zone.
type Window struct {
	Days []string `json:"days" description:"mon to sun."`
	From string   `json:"from" description:"HH:MM."`
	To   string   `json:"to" description:"HH:MM; earlier than from means the next day."`
	Zone string   `json:"zone" description:"Of the IANA time zone database."`
}

var weekdays = []string{"sun", "mon", "tue", "wed", "thu", "fri", "sat"}

// String is "mon, tue 08:00-16:00 Europe/Berlin".
func (w Window) String() string {
	return fmt.Sprintf("%s %s-%s %s", strings.Join(w.Days, ", "), w.From, w.To, w.Zone)
}

// Open reports whether a time lies in the window. A window over midnight
// belongs to the day on which it begins.
func (w Window) Open(at time.Time) bool {
	zone, err := time.LoadLocation(w.Zone)
	if err != nil {
		return false // it was checked when the lane was declared
	}
	local := at.In(zone)
	now := local.Format("15:04")
	day := func(t time.Time) bool { return slices.Contains(w.Days, weekdays[t.Weekday()]) }
	if w.From < w.To {
		return day(local) && now >= w.From && now < w.To
	}
	return day(local) && now >= w.From || day(local.AddDate(0, 0, -1)) && now < w.To
}

// Next is when the window opens next after a time at which it is closed; the
// zero time if that is not within two weeks.
func (w Window) Next(after time.Time) time.Time {
	const step = time.Minute
	at := after.Truncate(step)
	for range 14 * 24 * 60 {
		if at = at.Add(step); w.Open(at) {
			return at
		}
	}
	return time.Time{}
}

var clock = regexp.MustCompile(`^([01][0-9]|2[0-3]):[0-5][0-9]$`)

// window reads the window of a gate.
func (r *reader) window(node *yaml.Node) *Window {
	w := &Window{Days: weekdays, Zone: "UTC"}
	r.fields(node, "days, hours, zone", func(key string, value *yaml.Node) bool {
		switch key {
		case "days":
			w.Days = nil
			if err := value.Decode(&w.Days); err != nil || len(w.Days) == 0 ||
				slices.ContainsFunc(w.Days, func(d string) bool { return !slices.Contains(weekdays, d) }) {
				r.report(value, "days is a list of mon, tue, wed, thu, fri, sat, sun")
			}
		case "hours":
			from, to, found := strings.Cut(value.Value, "-")
			w.From, w.To = strings.TrimSpace(from), strings.TrimSpace(to)
			if !found || !clock.MatchString(w.From) || !clock.MatchString(w.To) || w.From == w.To {
				r.report(value, "hours are two times of the day, as in 08:00-16:00, not %q", value.Value)
			}
		case "zone":
			w.Zone = value.Value
			if _, err := time.LoadLocation(w.Zone); err != nil || w.Zone == "Local" {
				r.report(value, "%q is not a time zone; write one such as Europe/Berlin or UTC", value.Value)
			}
		default:
			return false
		}
		return true
	})
	if w.From == "" && node.Kind == yaml.MappingNode {
		r.report(node, "the window has no hours; write hours: 08:00-16:00")
	}
	return w
}

// Span writes a duration as people do: 1h, 12m, 1h5m.
func Span(d time.Duration) string {
	if d < time.Second {
		return d.String()
	}
	text := d.Round(time.Second).String()
	for _, none := range []string{"m0s", "h0m"} {
		if strings.HasSuffix(text, none) {
			text = text[:len(text)-2]
		}
	}
	return text
}
