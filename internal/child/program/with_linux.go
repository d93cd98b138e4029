//go:build reader

package program

import _ "embed"

//go:embed reader.gz
var compressed string
