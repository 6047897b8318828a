package main

import (
	"testing"

	"gentleharbor/internal/testkit"
)

func TestMain(m *testing.M) { testkit.Main(m) }
