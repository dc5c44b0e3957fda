package server

import (
	"context"
	"net/http"
	"strings"

	"github.com/danielgtaylor/huma/v2"
)

// Where tokens may go.
const (
	Listing       = "/inventory/workloads"
	listingPath   = Version + Listing
	pipelinePaths = Version + "/pipeline/"
	PointPath     = "/point"
	pointPaths    = Version + PointPath + "/"
)

// TokenOf returns the token that a request came with.
func TokenOf(ctx context.Context) (Token, bool) {
	t, ok := ctx.Value(tokenKey{}).(Token)
	return t, ok
}

// PointToken returns the token that a request of a point came with.
func PointToken(ctx context.Context) string {
	t, _ := ctx.Value(pointKey{}).(string)
	return t
}

type (
	tokenKey struct{}
	pointKey struct{}
)

// tokened lets a request with a token in only where tokens may go.
func (s *Kit) tokened(next http.Handler) http.Handler {
	refuse := func(w http.ResponseWriter, status int, detail string) {
		WriteProblem(w,
			huma.NewError(status, detail))
	}
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		secret, has := strings.CutPrefix(r.Header.Get("Authorization"), "Bearer ")
		lists, jobs := r.URL.Path == listingPath, strings.HasPrefix(r.URL.Path, pipelinePaths)
		switch {
		case strings.HasPrefix(r.URL.Path, pointPaths): // who it is of is looked at there, as a point asks for long
			next.ServeHTTP(w, r.WithContext(context.WithValue(r.Context(), pointKey{}, strings.TrimSpace(secret))))
		case !has && !lists && !jobs:
			next.ServeHTTP(w, r)
		case !has:
			refuse(w, http.StatusUnauthorized,
				"found no token, expected the header Authorization: Bearer TOKEN; make a token under Sources, in "+
					"the view Workloads")
		case !lists && !jobs:
			refuse(w, http.StatusForbidden, "a token opens only "+listingPath+", one that may release "+pipelinePaths+
				", and that "+
				"of a point "+pointPaths)
		default:
			t, err := s.Authorize(r.Context(), strings.TrimSpace(secret))
			if err != nil {
				WriteProblem(w, s.Failed(r.Context(), err))
				return
			}
			if t == nil {
				refuse(w, http.StatusUnauthorized, "found an unknown or revoked token")
				return
			}
			if t.Release != jobs {
				refuse(w, http.StatusForbidden, "the token "+t.Name+
					" has another purpose: a token either feeds a source or releases")
				return
			}
			next.ServeHTTP(w, r.WithContext(context.WithValue(r.Context(), tokenKey{}, *t)))
		}
	})
}
