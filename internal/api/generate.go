// Package api is the service's interface over HTTP, made from openapi.yaml.
package api

//go:generate go tool oapi-codegen -config server.gen.yaml openapi.yaml
//go:generate sh -c "cd ../../client && go tool oapi-codegen -config client.gen.yaml ../internal/api/openapi.yaml"
