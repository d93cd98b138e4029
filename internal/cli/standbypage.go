package cli

import "html/template"

// waitingTemplate is the page of a machine that waits.
var waitingTemplate = template.Must(template.New("waits").Parse(`<!doctype html>
<html lang="en"><head><meta charset="utf-8"><meta name="viewport" content="width=device-width">
<meta http-equiv="refresh" content="5"><title>Ink Tray waits</title>
<style>
:root { color-scheme: light dark; font: 16px/1.5 system-ui, sans-serif }
body { max-width: 36rem; margin: 15vh auto; padding: 0 1.5rem }
h1 { font-size: 1.4rem }
</style></head><body><h1>Ink Tray waits here</h1>{{range .}}<p>{{.}}</p>{{end}}</body></html>
`))
