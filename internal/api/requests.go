package api

import (
	"crypto/rand"
	"strings"
	"time"

	"github.com/gofiber/fiber/v3"
	"github.com/prometheus/client_golang/prometheus"
)

// requestID is under what a request's name is kept while it is answered.
const requestID = "request"

// answered names every request, counts it, and writes it into the log at the level debug. People see the name where
// something went wrong inside, and find it in the log.
func (s *Server) answered(c fiber.Ctx) error {
	id, began := strings.ToLower(rand.Text()[:10]), time.Now()
	c.Locals(requestID, id)
	c.Set("X-Request-Id", id)
	err := c.Next()
	if err != nil { // here, so that the answer's status is known
		if err := s.problem(c, err); err != nil {
			return err
		}
	}
	operation, status := "other", c.Response().StatusCode()
	if d := decisionOf(c.Context()); d != nil {
		operation = d.operation
	}
	took := time.Since(began)
	s.requests.WithLabelValues(operation, classOf(status)).Observe(took.Seconds())
	s.Log.Debug("answered", "request", id, "method", c.Method(), "path", c.Path(), "operation", operation, "status",
		status, "person", viewerOf(c.Context()).Name, "place", s.from(c), "took", took)
	return nil
}

// classOf is the first digit of a status with xx: few values, so that a metric has few series.
func classOf(status int) string { return string(rune('0'+status/100)) + "xx" }

// newRequests counts requests and how long they took.
func newRequests() *prometheus.HistogramVec {
	return prometheus.NewHistogramVec(prometheus.HistogramOpts{Namespace: "inktray", Name: "request_seconds",
		Help:    "How long requests took, by operation and class of status.",
		Buckets: []float64{.005, .02, .1, .5, 2, 10, 60}}, []string{"operation", "status"})
}
