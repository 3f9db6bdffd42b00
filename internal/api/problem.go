package api

import "strings"

// Problem is what every error is answered with, as application/problem+json
// (RFC 9457).
type Problem struct {
	Title  string   `json:"title" doc:"What is wrong, in words"`
	Status int      `json:"status" doc:"HTTP status"`
	Detail string   `json:"detail,omitempty" doc:"What was found and what to do"`
	Fields []string `json:"fields,omitempty" doc:"What is wrong with which part of the request"`
	Checks []Check  `json:"checks,omitempty" doc:"What stands between a file and its start"`
}

// Error puts the problem into one line.
func (p *Problem) Error() string {
	parts := []string{p.Title}
	if p.Detail != "" {
		parts = append(parts, p.Detail)
	}
	if len(p.Fields) > 0 {
		parts = append(parts, strings.Join(p.Fields, "; "))
	}
	return strings.Join(parts, ": ")
}

// GetStatus is the HTTP status to answer with.
func (p *Problem) GetStatus() int { return p.Status }

// ContentType is what the problem is sent as.
func (p *Problem) ContentType(string) string { return "application/problem+json" }
