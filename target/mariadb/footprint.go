package mariadb

import (
	"context"
	"fmt"
	"strconv"

	"vorrang/core/engine"
)

// Two questions, since the server joins the two lists by reading the second for each row of
// the first. The dictionary has names as files have them. It needs the right PROCESS.
//
// Source: https://mariadb.com/kb/en/information-schema-innodb_sys_tables-table/
const (
	// numbered gives the number of each InnoDB table of the database, which is another one
	// once the table was written again.
	numbered = `SELECT CONVERT(CONVERT(BINARY SUBSTRING_INDEX(NAME, '/', -1) USING filename) USING utf8mb3), TABLE_ID
		FROM information_schema.INNODB_SYS_TABLES
		WHERE CONVERT(CONVERT(BINARY SUBSTRING_INDEX(NAME, '/', 1) USING filename) USING utf8mb3) COLLATE utf8mb3_bin
			= DATABASE()`
	// sized gives about how large each table is, in bytes.
	sized = `SELECT TABLE_NAME, COALESCE(DATA_LENGTH + INDEX_LENGTH, 0) FROM information_schema.TABLES
		WHERE TABLE_SCHEMA = DATABASE() AND TABLE_NAME <> 'vorrang_ledger'`
)

// Survey implements engine.Surveyor: all that the server tells of what a step did to its
// surroundings. Which locks a statement took it does not say once that has ended.
func (s *Session) Survey(ctx context.Context) (engine.Survey, error) {
	seen := engine.Survey{Relations: map[string]engine.Surveyed{}}
	numbers := map[string]uint32{}
	err := s.own.each(ctx, numbered, nil, func(row []string) error {
		number, err := strconv.ParseUint(row[1], 10, 32)
		numbers[row[0]] = uint32(number)
		return err
	})
	if err == nil {
		err = s.own.each(ctx, sized, nil, func(row []string) error {
			number, is := numbers[row[0]]
			if !is { // a view, or of another storage engine
				return nil
			}
			bytes, err := strconv.ParseInt(row[1], 10, 64)
			seen.Relations[row[0]] = engine.Surveyed{ID: 1, File: number, Bytes: bytes} // by its name it is the same
			return err
		})
	}
	if err == nil {
		seen.Written, err = s.own.number(ctx,
			"SELECT VARIABLE_VALUE FROM information_schema.GLOBAL_STATUS WHERE VARIABLE_NAME = 'INNODB_OS_LOG_WRITTEN'")
	}
	if err != nil {
		return seen, fmt.Errorf("look where the tables are: %w", err)
	}
	return seen, nil
}
