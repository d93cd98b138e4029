//go:build !linux

package child

func load([]byte) (string, error) { return "", errNoSmall }
