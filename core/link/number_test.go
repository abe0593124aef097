package link

import (
	"encoding/hex"
	"encoding/json"
	"os"
	"testing"

	"github.com/stretchr/testify/require"
)

// The vectors of docs/formats/link.md, made with another program.
func TestTheNumberIsThatOfTheVectors(t *testing.T) {
	raw, err := os.ReadFile("testdata/number.json")
	require.NoError(t, err)
	var vectors []struct {
		SessionID string `json:"session_id"`
		Number    string `json:"number"`
	}
	require.NoError(t, json.Unmarshal(raw, &vectors))
	require.NotEmpty(t, vectors)
	for _, v := range vectors {
		id, err := hex.DecodeString(v.SessionID)
		require.NoError(t, err)
		require.Equal(t, v.Number, number(id), v.SessionID)
	}
}
