package work

import (
	"bytes"
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"time"

	"vorrang/core/access"
)

// AuditFiles is a folder where acts of the audit are written before they are let go of: a file for each month,
// with a line of JSON for each act, as the export of the audit has them. An empty one writes nothing.
type AuditFiles string

// Keep adds acts to the files. They are on the disk when it returns.
func (f AuditFiles) Keep(acts []access.AuditEntry) error {
	if f == "" {
		return nil
	}
	months, lines := []string{}, map[string]*bytes.Buffer{}
	for _, a := range acts {
		month := a.At.UTC().Format("2006-01")
		if lines[month] == nil {
			months, lines[month] = append(months, month), &bytes.Buffer{}
		}
		if err := json.NewEncoder(lines[month]).Encode(a); err != nil {
			return fmt.Errorf("write entry %d of the audit: %w", a.ID, err)
		}
	}
	for _, month := range months {
		if err := appendTo(filepath.Join(string(f), "audit-"+month+".jsonl"), lines[month].Bytes()); err != nil {
			return fmt.Errorf("keep the audit before it goes: %w", err)
		}
	}
	return nil
}

// Check says why nothing could be written there; nil where it can.
func (f AuditFiles) Check() error {
	if f == "" {
		return nil
	}
	file, err := os.CreateTemp(string(f), "audit-*.tmp")
	if err != nil {
		return err
	}
	defer os.Remove(file.Name())
	return file.Close()
}

// appendTo adds to a file, and waits for the disk. What an earlier try wrote by half is ended by a line break.
func appendTo(name string, text []byte) (err error) {
	file, err := os.OpenFile(name, os.O_RDWR|os.O_CREATE|os.O_APPEND, 0o600)
	if err != nil {
		return err
	}
	defer func() {
		if closed := file.Close(); err == nil {
			err = closed
		}
	}()
	info, err := file.Stat()
	if err != nil {
		return err
	}
	last := make([]byte, 1)
	if info.Size() > 0 {
		if _, err := file.ReadAt(last, info.Size()-1); err != nil {
			return err
		}
		if last[0] != '\n' {
			text = append([]byte("\n"), text...)
		}
	}
	if _, err := file.Write(text); err != nil {
		return err
	}
	return file.Sync()
}

// forgotActs is the act that says that older ones were let go of.
func forgotActs(gone int64, before time.Time, files AuditFiles) access.AuditEntry {
	where := string(files)
	if where == "" {
		where = "nowhere"
	}
	detail, _ := json.Marshal(map[string]any{"entries": gone, "before": before.UTC(), "written_to": where}) // plain values
	return access.AuditEntry{
		Actor: "vorrangd", Via: "vorrangd", Operation: "forgetAudit", Detail: detail, Status: 200, Result: "done",
	}
}
