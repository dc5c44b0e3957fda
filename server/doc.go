// Package server is what every part of the API stands on: routing, problem details, bounds of
// bodies, times and turns, idempotency, tokens, live events, jobs, metrics, the built
// interface and the OpenAPI document.
//
// It knows no step of the work: each registers its operations as a Part. A Server and a Kit
// are safe for concurrent use. Start reading at New and Get.
package server
