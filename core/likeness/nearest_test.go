package likeness_test

import (
	"testing"

	"github.com/stretchr/testify/require"

	"lucidorchard/core/likeness"
)

func TestNearest(t *testing.T) {
	keys := []string{"app", "env", "tier", "site", "owner", "cost-centre"}
	for name, want := range map[string]string{"envv": "env", "ownr": "owner", "cost-center": "cost-centre",
		"colour": "",
		"tire":   "tier", "en": "", "teir": "tier", "stie": "site", "paap": ""} {
		require.Equal(t, want, likeness.Nearest(name, keys), name)
	}
}
