package transfer

import (
	"encoding/json"
	"testing"

	"github.com/stretchr/testify/require"

	"lucidorchard/model"
)

// A setting that could not be read later is refused while nothing stands yet.
func TestSettingsOfAnExportAreRead(t *testing.T) {
	for name, value := range map[string]string{"structural": `"app"`, "inapplicable": `["env"]`,
		"retention": `[]`, "flow form": `{"zone": 1}`} {
		require.ErrorContains(t, soundState(&model.State{}, map[string]json.RawMessage{name: json.RawMessage(value)}),
			"the setting "+name)
	}
	require.NoError(t, soundState(&model.State{}, map[string]json.RawMessage{
		"flow form": json.RawMessage(`{"columns": {"Von": "src"}}`)}), "there may be no policy yet")
}
