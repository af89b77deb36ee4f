package postgres

import (
	"bytes"
	"context"
	"fmt"
	"strings"

	"vorrang/core/engine"
	"vorrang/core/schema"
	"vorrang/core/sqltext"
)

// Rows reads a table's rows as COPY gives them, and where its sequences stand.
// most is in bytes. Columns that are computed are left out.
func (s *Session) Rows(ctx context.Context, seen schema.Schema, table string, most int) (schema.Rows, error) {
	rows := schema.Rows{Table: table}
	for _, column := range schema.Columns(seen)[table] {
		if column.Props[schema.Generated] == "" {
			rows.Columns = append(rows.Columns, column.Local())
		}
	}
	data := &bounded{most: most}
	query := fmt.Sprintf("COPY (SELECT %s FROM %s) TO STDOUT", strings.Join(rows.Columns, ", "), table)
	if _, err := s.conn.PgConn().CopyTo(ctx, data, query); err != nil {
		if data.full {
			err = fmt.Errorf("%w, which is %d bytes", engine.ErrTooManyRows, most)
		}
		return rows, fmt.Errorf("read the rows of %s: %w", table, s.wrap(err))
	}
	rows.Data = data.Bytes()
	for _, o := range seen.Objects {
		of := o.Props[schema.OwnedBy] + o.Props[schema.IdentityOf]
		if o.Kind != schema.Sequence || !strings.HasPrefix(of, table+".") {
			continue
		}
		set, err := s.position(ctx, o.Name)
		if err != nil {
			return rows, fmt.Errorf("read the sequence %s: %w", o.Name, err)
		}
		rows.Next = append(rows.Next, set)
	}
	return rows, nil
}

// position is the statement that has a sequence stand where it stands.
func (s *Session) position(ctx context.Context, sequence string) (string, error) {
	var last int64
	var called bool
	if err := s.conn.QueryRow(ctx, "SELECT last_value, is_called FROM "+sequence).Scan(&last, &called); err != nil {
		return "", s.wrap(err)
	}
	return fmt.Sprintf("SELECT pg_catalog.setval(%s, %d, %t)", sqltext.Literal(sequence), last, called), nil
}

// bounded is a buffer that takes so many bytes.
type bounded struct {
	bytes.Buffer
	most int
	full bool
}

func (b *bounded) Write(p []byte) (int, error) {
	if b.Len()+len(p) > b.most {
		b.full = true
		return 0, engine.ErrTooManyRows
	}
	return b.Buffer.Write(p)
}
