package rest_test

import (
	"testing"

	"lucidorchard/database/databasetest"
)

func TestMain(m *testing.M) { databasetest.Main(m) }
