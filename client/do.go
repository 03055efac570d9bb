package client

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"reflect"
	"strings"
	"time"

	"tavrin/wire"
)

// Do makes one of the calls of the API and returns its answer. What the request says is sent as its fields are tagged:
// into the path, the query, the headers, and, for the field Body, the body. Zero values of queries and headers are left
// out. Errors of the service are a *Problem.
func Do[In, Out any](ctx context.Context, c *Client, call wire.Call[In, Out], in In) (Out, error) {
	return do(ctx, c.connection, call, in)
}

func do[In, Out any](ctx context.Context, c *connection, call wire.Call[In, Out], in In) (Out, error) {
	var out Out
	r := request{path: call.Path, query: url.Values{}, header: http.Header{}}
	if err := r.take(reflect.ValueOf(in)); err != nil {
		return out, fmt.Errorf("%s: %w", call.ID, err)
	}
	if len(r.query) > 0 {
		r.path += "?" + r.query.Encode()
	}
	resp, err := c.send(ctx, call.Method, r.path, c.token, r.header, r.body)
	if err != nil {
		return out, err
	}
	defer resp.Body.Close()
	if err := json.NewDecoder(resp.Body).Decode(&out); err != nil {
		return out, fmt.Errorf("read the service's answer to %s %s: %w", call.Method, r.path, err)
	}
	return out, nil
}

// request is the parts of a request, as far as they are taken from what it says.
type request struct {
	path   string
	query  url.Values
	header http.Header
	body   io.Reader
}

// take takes the fields of a struct, those of structs in it too.
func (r *request) take(v reflect.Value) error {
	for i := range v.NumField() {
		field, value := v.Type().Field(i), v.Field(i)
		if name := field.Tag.Get("path"); name != "" {
			text := written(value)
			if text == "" {
				return fmt.Errorf("%s is needed", name)
			}
			r.path = strings.ReplaceAll(r.path, "{"+name+"}", url.PathEscape(text))
			continue
		}
		name, header := field.Tag.Get("query"), field.Tag.Get("header")
		switch {
		case name != "" && !value.IsZero():
			r.query.Set(name, written(value))
		case header != "" && !value.IsZero():
			r.header.Set(header, written(value))
		case field.Name == "Body":
			data, err := json.Marshal(value.Interface())
			if err != nil {
				return err
			}
			r.body = bytes.NewReader(data)
		case field.Anonymous:
			if err := r.take(value); err != nil {
				return err
			}
		}
	}
	return nil
}

// written writes a value as paths, queries and headers have it.
func written(v reflect.Value) string {
	if at, isTime := v.Interface().(time.Time); isTime {
		return at.UTC().Format(time.RFC3339Nano)
	}
	return fmt.Sprint(v.Interface())
}

// none forgets the answer of a call that has nothing to tell.
func none(_ wire.Done, err error) error { return err }

// inRepo, inChange and inThread name what a call is about; onRepo and onChange add a body.
func inRepo(repo string) wire.InRepo { return wire.RepoNamed(repo) }

func inChange(repo string, number int) wire.InChange {
	return wire.InChange{InRepo: wire.RepoNamed(repo), Number: number}
}

func inThread(repo string, number int, thread int64) wire.InThread {
	return wire.InThread{InChange: inChange(repo, number), Thread: thread}
}

func just[B any](body B) wire.JustBody[B] { return wire.JustBody[B]{Body: body} }

func onRepo[B any](repo string, body B) wire.RepoBody[B] {
	return wire.RepoBody[B]{InRepo: inRepo(repo), Body: body}
}

func onChange[B any](repo string, number int, body B) wire.ChangeBody[B] {
	return wire.ChangeBody[B]{InChange: inChange(repo, number), Body: body}
}

// ofRules makes a call about the rules of a repository, HOUSE/NAME, or of a house.
func ofRules[B, Out any](ctx context.Context, c *connection, calls wire.Both[B, Out], where string, body B) (Out, error) {
	if strings.Contains(where, "/") {
		return do(ctx, c, calls.OfRepository, onRepo(where, body))
	}
	return do(ctx, c, calls.OfHouse, wire.HouseBody[B]{InHouse: wire.InHouse{House: where}, Body: body})
}

// readRules is ofRules for a call without a body.
func readRules[Out any](ctx context.Context, c *connection, calls wire.BothRead[Out], where string,
	q wire.RulesQuery) (Out, error) {
	if strings.Contains(where, "/") {
		return do(ctx, c, calls.OfRepository, wire.RepoRules{InRepo: inRepo(where), RulesQuery: q})
	}
	return do(ctx, c, calls.OfHouse, wire.HouseRules{InHouse: wire.InHouse{House: where}, RulesQuery: q})
}
