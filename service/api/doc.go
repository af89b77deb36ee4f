// Package api holds the types that travel between the service and its clients.
// The OpenAPI document is generated from them. They hold no behaviour.
package api
