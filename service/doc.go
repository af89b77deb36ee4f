// Package service is vorrangd: the API, live events, sign-in and the console's
// files, over the records and the lanes' targets.
//
// HTTP requests come in; it reads the records and the targets, asks package
// gate, and lets package deploy run. It resolves target references and never
// stores, logs or answers what they resolve to.
package service
