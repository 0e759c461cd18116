package file

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestNamesThatSecretsHave(t *testing.T) {
	for _, name := range []string{"password", "WriteKey", "psk", "pw", "credential", "device_secret", "api-key", "apiKey",
		"Authorization", "X-Access-Token", "sas", "private_key", "site.token", "PASSPHRASE"} {
		assert.True(t, LooksSecret(name), name)
	}
	for _, name := range []string{"site", "keyboard", "monkey", "authority", "power", "spawn", "tokenless", "lamp_w",
		"keel_m", "name"} {
		assert.False(t, LooksSecret(name), name)
	}
}
