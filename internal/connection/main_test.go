package connection_test

import (
	"testing"

	"noemata/internal/testkit"
)

func TestMain(m *testing.M) { testkit.Main(m) }
