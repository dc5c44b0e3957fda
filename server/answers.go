package server

// Body wraps what an operation returns.
type Body[T any] struct{ Body T }

func OK[T any](v T) *Body[T] { return &Body[T]{v} }
