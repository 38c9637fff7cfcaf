// Package httpapi serves the workspace over HTTP: its routes, sessions, errors and
// the description of all that (OpenAPI 3.1, made from the code that answers).
//
// All routes stand in routes.go. Nothing here decides what an actor may do: the
// use cases of the workspace do, and this package turns their errors into problem
// details (RFC 9457).
package httpapi
