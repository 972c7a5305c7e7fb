package engine_test

import (
	"testing"

	"stonebaton.example/internal/engine"
	"stonebaton.example/internal/engine/logtest"
)

func TestMemoryIsALog(t *testing.T) {
	logtest.Run(t, func(*testing.T) engine.Records { return engine.NewMemory() })
}
