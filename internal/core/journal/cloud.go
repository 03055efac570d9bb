package journal

import (
	"encoding/json"
	"strconv"
	"strings"
	"time"
)

// CloudEvent is a line as an event of CloudEvents 1.0, in its JSON format: what the stream and webhooks carry.
type CloudEvent struct {
	SpecVersion string    `json:"specversion"`
	ID          string    `json:"id"`
	Source      string    `json:"source"`
	Type        string    `json:"type"`
	Subject     string    `json:"subject,omitempty"`
	Time        time.Time `json:"time"`
	ContentType string    `json:"datacontenttype"`
	Data        CloudData `json:"data"`
}

// CloudData is what such an event says: its line, with what its kind records as details (see the reference of events).
type CloudData struct {
	Actor      string          `json:"actor"`
	Repository string          `json:"repository"`
	Text       string          `json:"text"`
	Details    json.RawMessage `json:"details"`
	// Links lead to what it is about, where the service knows its own address.
	Links *Links `json:"links,omitempty"`
}

// Links are addresses of what an event is about.
type Links struct {
	Git    string `json:"git,omitempty"`    // for git clone and git fetch
	Page   string `json:"page,omitempty"`   // in the console
	Report string `json:"report,omitempty"` // where a check is reported, of events that ask for one
}

// TypePrefix begins the type of every event.
const TypePrefix = "tavrin."

// Cloud returns a line as a CloudEvents event. Its id is the line's number; its source is the address of the
// repository in a service that is reached at base, or of the service where it is about none.
func Cloud(l Line, base string) CloudEvent {
	e := CloudEvent{SpecVersion: "1.0", ID: strconv.FormatInt(l.Seq, 10), Source: base + "/", Type: TypePrefix + l.Kind,
		Subject: l.Subject, Time: l.At, ContentType: "application/json",
		Data: CloudData{Actor: l.Actor, Repository: l.Repository, Text: l.Text, Details: l.Data}}
	if l.Repository == "" {
		return e
	}
	e.Source = base + "/repositories/" + l.Repository
	if base != "" {
		e.Data.Links = &Links{Git: base + "/git/" + l.Repository + ".git", Page: base + "/" + l.Repository}
		if number, of := strings.CutPrefix(l.Subject, "change/"); of {
			e.Data.Links.Page += "/changes/" + number
		}
		if l.Kind == "check.asked" {
			e.Data.Links.Report = base + "/api/v1/repositories/" + l.Repository + "/checks"
		}
	}
	return e
}
