package main

import (
	"flag"
	"io"
	"os"
	"regexp"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestEverySettingIsDescribed: each flag that the help names, and each variable that stands for one.
func TestEverySettingIsDescribed(t *testing.T) {
	errs := os.Stderr
	defer func() { os.Stderr = errs }()
	read, write, err := os.Pipe()
	require.NoError(t, err)
	os.Stderr = write
	_, err = parse([]string{"-h"})
	require.ErrorIs(t, err, flag.ErrHelp)
	require.NoError(t, write.Close())
	help, err := io.ReadAll(read)
	require.NoError(t, err)
	operations, err := os.ReadFile("../../docs/operations.md")
	require.NoError(t, err)
	flags := regexp.MustCompile(`(?m)^  -([a-z-]+)`).FindAllSubmatch(help, -1)
	assert.Greater(t, len(flags), 18)
	for _, name := range flags {
		if string(name[1]) != "version" {
			assert.Contains(t, string(operations), "`-"+string(name[1])+"`")
		}
	}
	for _, name := range regexp.MustCompile(`VORRANG_[A-Z_]+`).FindAll(help, -1) {
		assert.Contains(t, string(operations), "`"+string(name)+"`")
	}
}
