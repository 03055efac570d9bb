package outbound

import (
	"context"
	"errors"
	"fmt"
	"net"
	"net/http"
	"net/http/httptest"
	"net/netip"
	"strings"
	"sync/atomic"
	"testing"
	"time"
)

func TestEntries(t *testing.T) {
	for _, c := range []struct{ text, wrong string }{
		{"https://builds.example", ""}, {"https://builds.example/hooks/", ""}, {"http://bench.lan:8080=10.0.3.0/24", ""},
		{"http://127.0.0.1:7430", ""}, {"https://[2001:db8::1]:8443/x", ""}, {"https://a.example=10.0.0.1,fd00::/8", ""},
		{"builds.example", "has no host"}, {"ftp://builds.example", "only https"}, {"https://u:p@builds.example", "no name, password"},
		{"https://builds.example/?a", "no name, password, query"}, {"https://*.example", "every host is named"},
		{"https://a.example=bench.lan", "neither an address nor a network"}, {"https://a.example=", "neither an address nor a network"},
	} {
		_, err := NewList([]string{c.text})
		if (err == nil) != (c.wrong == "") || err != nil && !strings.Contains(err.Error(), c.wrong) {
			t.Errorf("%s: %v, want %q", c.text, err, c.wrong)
		}
	}
}

func TestAllows(t *testing.T) {
	l, err := NewList([]string{"https://builds.example/hooks", "http://127.0.0.1:7430", "https://Tickets.example:8443/"})
	if err != nil {
		t.Fatal(err)
	}
	for _, c := range []struct {
		address string
		allowed bool
	}{
		{"https://builds.example/hooks", true}, {"https://builds.example/hooks/a?b=c", true}, {"https://BUILDS.example:443/hooks/", true},
		{"https://builds.example./hooks", true}, {"http://127.0.0.1:7430", true}, {"http://127.0.0.1:7430/x/", true}, {"https://tickets.example:8443/x", true},
		{"https://builds.example/hooksandmore", false}, {"https://builds.example/", false}, {"http://builds.example/hooks", false},
		{"https://builds.example:444/hooks", false}, {"https://builds.example.evil.example/hooks", false}, {"https://other.example/hooks", false},
		{"https://builds.example/hooks/../admin", false}, {"https://builds.example/hooks/%2e%2e/admin", false}, {"https://builds.example/hooks/..%2fadmin", false},
		{"https://builds.example/hooks/..%2Fadmin", false}, {"https://builds.example/hooks//x", false}, {"https://builds.example/hooks/..%5cadmin", false},
		{"https://u@builds.example/hooks", false}, {"https://builds.example/hooks#f", false}, {"https://builds.example@other.example/hooks", false},
		{"gopher://builds.example/hooks", false}, {"//builds.example/hooks", false}, {"", false}, {"https://", false}, {"http://127.0.0.1:7431/", false},
		{"http://2130706433:7430/", false}, {"http://localhost:7430/", false}, {"http://[::ffff:127.0.0.1]:7430/", false},
	} {
		if err := l.Allows(c.address); (err == nil) != c.allowed {
			t.Errorf("%s: %v", c.address, err)
		}
	}
	err = l.Allows("https://other.example/x?token=abc")
	if !errors.Is(err, ErrNotListed) || !strings.Contains(err.Error(), "--allow-destination https://other.example/x") || strings.Contains(err.Error(), "abc") {
		t.Errorf("what to ask for is said as %v", err)
	}
}

func TestPermits(t *testing.T) {
	l, err := NewList([]string{"https://builds.example", "http://bench.lan:8080=10.0.3.0/24", "http://127.0.0.1:7430", "http://localhost:7431"})
	if err != nil {
		t.Fatal(err)
	}
	for _, c := range []struct {
		at, ip  string
		allowed bool
	}{
		{"builds.example:443", "93.184.216.34", true}, {"builds.example:443", "2606:2800:220:1::1", true}, {"BUILDS.example.:443", "93.184.216.34", true},
		{"builds.example:443", "10.0.3.7", false}, {"builds.example:443", "127.0.0.1", false}, {"builds.example:443", "::1", false},
		{"builds.example:443", "169.254.169.254", false}, {"builds.example:443", "192.168.1.1", false}, {"builds.example:443", "172.31.0.1", false},
		{"builds.example:443", "100.64.1.1", false}, {"builds.example:443", "0.0.0.0", false}, {"builds.example:443", "::", false},
		{"builds.example:443", "::ffff:127.0.0.1", false}, {"builds.example:443", "::ffff:10.0.0.1", false}, {"builds.example:443", "64:ff9b::a00:1", false},
		{"builds.example:443", "2002:a00:1::", false}, {"builds.example:443", "fd00::1", false}, {"builds.example:443", "fe80::1", false},
		{"builds.example:443", "::127.0.0.1", false}, {"builds.example:443", "224.0.0.1", false}, {"builds.example:443", "255.255.255.255", false},
		{"builds.example:443", "198.18.0.1", false}, {"builds.example:443", "fec0::1", false}, {"builds.example:443", "ff02::1", false},
		{"builds.example:80", "93.184.216.34", false},
		{"bench.lan:8080", "10.0.3.7", true}, {"bench.lan:8080", "10.0.4.7", false}, {"bench.lan:8080", "93.184.216.34", false},
		{"127.0.0.1:7430", "127.0.0.1", true}, {"127.0.0.1:7430", "127.0.0.2", false}, {"localhost:7431", "127.0.0.1", true}, {"localhost:7431", "::1", true},
	} {
		host, port, err := net.SplitHostPort(c.at)
		if err != nil {
			t.Fatal(err)
		}
		if err := l.permits(host, port, netip.MustParseAddr(c.ip)); (err == nil) != c.allowed {
			t.Errorf("%s at %s: %v", c.at, c.ip, err)
		}
	}
}

// caller makes a Caller that may call a server under the name bench.lan, which is at the addresses that lookup gives.
func caller(t *testing.T, s *httptest.Server, o Options) (*Caller, string) {
	t.Helper()
	_, port, err := net.SplitHostPort(s.Listener.Addr().String())
	if err != nil {
		t.Fatal(err)
	}
	scheme := strings.Split(s.URL, ":")[0]
	at := fmt.Sprintf("%s://bench.lan:%s", scheme, port)
	if o.List == nil {
		if o.List, err = NewList([]string{at + "=127.0.0.0/8"}); err != nil {
			t.Fatal(err)
		}
	}
	if o.Lookup == nil {
		o.Lookup = func(context.Context, string) ([]netip.Addr, error) {
			return []netip.Addr{netip.MustParseAddr("127.0.0.1")}, nil
		}
	}
	return New(o), at
}

func TestCalls(t *testing.T) {
	var reached atomic.Int32
	inside := httptest.NewServer(http.HandlerFunc(func(http.ResponseWriter, *http.Request) { reached.Add(1) }))
	defer inside.Close()
	release := make(chan struct{})
	s := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		switch r.URL.Path {
		case "/redirect":
			http.Redirect(w, r, inside.URL, http.StatusFound)
		case "/large": // as much as is taken; the caller goes away
			for some := strings.Repeat("x", 1<<20); r.Context().Err() == nil; {
				if _, err := w.Write([]byte(some)); err != nil {
					return
				}
			}
		case "/slow":
			for r.Context().Err() == nil {
				if _, err := w.Write([]byte("x")); err != nil {
					return
				}
				http.NewResponseController(w).Flush()
				time.Sleep(time.Millisecond)
			}
		case "/never":
			<-release
		case "/busy":
			w.Header().Set("Retry-After", "120")
			w.WriteHeader(http.StatusServiceUnavailable)
		case "/headers":
			w.Header().Set("X", strings.Repeat("x", 1<<20))
		}
	}))
	defer s.Close()
	defer close(release)
	patient, at := caller(t, s, Options{Timeout: time.Minute})
	hasty, _ := caller(t, s, Options{Timeout: 300 * time.Millisecond}) // for what never ends
	for _, one := range []struct {
		path, wrong string
		status      int
	}{
		{"/redirect", "", 302}, {"/large", "", 200}, {"/slow", "did not answer within", 0}, {"/never", "did not answer within", 0}, {"/busy", "", 503},
		{"/headers", "headers exceeded", 0}, {"", "", 200},
	} {
		c := patient
		if strings.Contains(one.wrong, "within") {
			c = hasty
		}
		a, err := c.Do(t.Context(), "POST", at+one.path, http.Header{}, []byte("{}"))
		switch {
		case one.wrong != "" && (err == nil || !strings.Contains(err.Error(), one.wrong)):
			t.Errorf("%s: %v, want %q", one.path, err, one.wrong)
		case one.wrong == "" && (err != nil || a.Status != one.status || len(a.Body) > Kept):
			t.Errorf("%s: %+v, %v", one.path, a, err)
		case one.path == "/busy" && a.RetryAfter != 2*time.Minute:
			t.Errorf("it asks for a pause of %s", a.RetryAfter)
		}
	}
	if reached.Load() > 0 {
		t.Error("a redirect was followed")
	}
}

// A name that comes to mean a forbidden address leads nowhere, whatever it meant when it was looked at before.
func TestRebinding(t *testing.T) {
	var reached atomic.Int32
	s := httptest.NewServer(http.HandlerFunc(func(http.ResponseWriter, *http.Request) { reached.Add(1) }))
	defer s.Close()
	_, port, _ := net.SplitHostPort(s.Listener.Addr().String())
	l, err := NewList([]string{"http://bench.lan:" + port})
	if err != nil {
		t.Fatal(err)
	}
	for _, answers := range [][]string{{"127.0.0.1"}, {"::1"}, {"::ffff:127.0.0.1"}, {"10.0.0.1", "127.0.0.1"}, {}} {
		c, at := caller(t, s, Options{List: l, Lookup: func(context.Context, string) ([]netip.Addr, error) {
			var out []netip.Addr
			for _, a := range answers {
				out = append(out, netip.MustParseAddr(a))
			}
			return out, nil
		}})
		if _, err := c.Do(t.Context(), "POST", at, http.Header{}, nil); err == nil {
			t.Errorf("a name at %v was called", answers)
		} else if len(answers) > 0 && !strings.Contains(err.Error(), "--allow-destination") {
			t.Errorf("a name at %v: %v", answers, err)
		}
	}
	if reached.Load() > 0 {
		t.Error("a forbidden address was reached")
	}
}

func TestCertificates(t *testing.T) {
	s := httptest.NewTLSServer(http.HandlerFunc(func(http.ResponseWriter, *http.Request) {}))
	defer s.Close()
	c, at := caller(t, s, Options{})
	if _, err := c.Do(t.Context(), "POST", at, http.Header{}, nil); err == nil || !strings.Contains(err.Error(), "its certificate is not trusted") {
		t.Errorf("a certificate of nobody's: %v", err)
	}
	l, err := NewList([]string{strings.Replace(at, "bench.lan", "example.com", 1) + "=127.0.0.1"})
	if err != nil {
		t.Fatal(err)
	}
	roots := s.Client().Transport.(*http.Transport).TLSClientConfig.RootCAs
	c, at = caller(t, s, Options{List: l, Roots: roots})
	if a, err := c.Do(t.Context(), "POST", strings.Replace(at, "bench.lan", "example.com", 1), http.Header{}, nil); err != nil || a.Status != 200 {
		t.Errorf("a certificate that is trusted: %v", err)
	}
}
