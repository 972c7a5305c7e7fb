package service

import (
	"context"
	"net/http"
	"strconv"
	"time"

	"github.com/labstack/echo/v5"
	"github.com/prometheus/client_golang/prometheus"
	"github.com/prometheus/client_golang/prometheus/collectors"
	"github.com/prometheus/client_golang/prometheus/promhttp"

	"stonebaton.example/internal/app"
)

// metrics are what /metrics tells, in OpenMetrics.
type metrics struct {
	reg      *prometheus.Registry
	requests *prometheus.HistogramVec
	streams  prometheus.Gauge
}

func newMetrics(a *app.App) *metrics {
	m := &metrics{reg: prometheus.NewRegistry(),
		requests: prometheus.NewHistogramVec(prometheus.HistogramOpts{Name: "stonebaton_http_request_seconds", Help: "Time to answer a request, streams aside.", Buckets: []float64{.001, .005, .02, .1, .5, 2}}, []string{"method", "route", "status"}),
		streams:  prometheus.NewGauge(prometheus.GaugeOpts{Name: "stonebaton_streams", Help: "Event streams open."})}
	m.reg.MustRegister(m.requests, m.streams, collectors.NewGoCollector(), collectors.NewProcessCollector(collectors.ProcessCollectorOpts{}), runs{a, prometheus.NewDesc("stonebaton_runs", "Runs by status.", []string{"status"}, nil)})
	return m
}

func (m *metrics) handler() http.Handler {
	return promhttp.HandlerFor(m.reg, promhttp.HandlerOpts{EnableOpenMetrics: true, DisableCompression: true})
}

// runs counts the runs when it is asked.
type runs struct {
	app  *app.App
	desc *prometheus.Desc
}

func (r runs) Describe(ch chan<- *prometheus.Desc) { ch <- r.desc }

func (r runs) Collect(ch chan<- prometheus.Metric) {
	counts, err := r.app.Store.Counts(context.Background())
	if err != nil {
		ch <- prometheus.NewInvalidMetric(r.desc, err)
		return
	}
	for _, s := range []string{"going", "held", "done", "failed", "stopped"} {
		ch <- prometheus.MustNewConstMetric(r.desc, prometheus.GaugeValue, float64(counts[s]), s)
	}
}

// observe measures and logs requests.
func (s *Service) observe(next echo.HandlerFunc) echo.HandlerFunc {
	return func(c *echo.Context) error {
		began := time.Now()
		err := next(c)
		if err != nil {
			s.fail(c, err) // so that the status is known here
		}
		status := 0
		if r, uerr := echo.UnwrapResponse(c.Response()); uerr == nil {
			status = r.Status
		}
		took := time.Since(began)
		if c.Response().Header().Get("Content-Type") != "text/event-stream" {
			s.metrics.requests.WithLabelValues(methodLabel(c.Request().Method), c.Path(), strconv.Itoa(status)).Observe(took.Seconds())
		}
		s.log.Debug("request", "method", c.Request().Method, "path", c.Request().URL.Path, "status", status, "ms", took.Milliseconds())
		return nil
	}
}
