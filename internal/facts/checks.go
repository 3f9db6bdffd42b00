package facts

import (
	"diathermon/internal/api"
	"diathermon/internal/core/preflight"
)

// Checks say what stands between a file and its start.
func Checks(checks []preflight.Check) []api.Check {
	var out []api.Check
	for _, c := range checks {
		out = append(out, api.Check{Kind: string(c.Kind), Level: string(c.Level), Title: c.Title, Expected: c.Expected, Do: c.Do, Overrule: c.Overrule})
	}
	return out
}

// Fine says what is as it should be.
func Fine(fine []preflight.Fine) []api.Fine {
	var out []api.Fine
	for _, f := range fine {
		out = append(out, api.Fine{Kind: string(f.Kind), Title: f.Title})
	}
	return out
}
