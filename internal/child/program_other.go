//go:build !linux

package child

func load(string) (string, error) { return "", errNoSmall }
