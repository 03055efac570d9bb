package api

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/xml"
	"fmt"
	"net/http"
	"net/url"
	"strings"
	"time"

	"github.com/go-chi/chi/v5"

	"tavrin/internal/accounts"
	"tavrin/internal/desk"
	"tavrin/wire"
)

// notifications: what happened to what somebody follows, in the console, as a digest and as a feed.
func (s *server) notifications() {
	serve(s, wire.ListNotifications, func(ctx context.Context, a accounts.Actor, q *wire.NotificationQuery) (wire.Notifications, error) {
		return s.Service.Notifications.Notifications(ctx, a, desk.NotificationQuery{Limit: q.Limit})
	})
	serve(s, wire.PutNotificationsSeen, func(ctx context.Context, a accounts.Actor, q *wire.JustBody[wire.Seen]) (wire.Done, error) {
		return wire.Done{Done: true}, s.Service.Notifications.SeenNotifications(ctx, a, q.Body.Seq)
	})
	serve(s, wire.GetDigest, func(ctx context.Context, a accounts.Actor, q *wire.DigestQuery) (wire.Digest, error) {
		return s.Service.Notifications.Digest(ctx, a, q.Since)
	})
	serve(s, wire.ListFollowing, func(ctx context.Context, a accounts.Actor, _ *wire.Nothing) ([]wire.Following, error) {
		return s.Service.Notifications.Following(ctx, a)
	})
	serve(s, wire.FollowRepository, func(ctx context.Context, a accounts.Actor, q *wire.RepoBody[wire.FollowChoice]) (wire.Following, error) {
		return s.Service.Notifications.Follow(ctx, a, q.Repository(), 0, q.Body.Follow)
	})
	serve(s, wire.FollowChange, func(ctx context.Context, a accounts.Actor, q *wire.ChangeBody[wire.FollowChoice]) (wire.Following, error) {
		return s.Service.Notifications.Follow(ctx, a, q.Repository(), q.Number, q.Body.Follow)
	})
	serve(s, wire.GetMailChoice, func(ctx context.Context, a accounts.Actor, _ *wire.Nothing) (wire.MailChoice, error) {
		return s.Service.Mail.Choice(ctx, a)
	})
	serve(s, wire.PutMailChoice, func(ctx context.Context, a accounts.Actor, q *wire.JustBody[wire.NewMailChoice]) (wire.MailChoice, error) {
		return s.Service.Mail.Choose(ctx, a, q.Body.Every)
	})
	serve(s, wire.CreateFeed, func(ctx context.Context, a accounts.Actor, _ *wire.Nothing) (wire.Feed, error) {
		return s.Service.Notifications.MakeFeed(ctx, a)
	})
	serve(s, wire.DeleteFeed, func(ctx context.Context, a accounts.Actor, _ *wire.Nothing) (wire.Done, error) {
		return wire.Done{Done: true}, s.Service.Notifications.RevokeFeed(ctx, a)
	})
}

// atomFeed is a feed as RFC 4287 has it.
type atomFeed struct {
	XMLName xml.Name    `xml:"http://www.w3.org/2005/Atom feed"`
	ID      string      `xml:"id"`
	Title   string      `xml:"title"`
	Updated string      `xml:"updated"`
	Author  atomPerson  `xml:"author"`
	Entries []atomEntry `xml:"entry"`
}

type atomPerson struct {
	Name string `xml:"name"`
}

type atomEntry struct {
	ID       string     `xml:"id"`
	Title    string     `xml:"title"`
	Updated  string     `xml:"updated"`
	Author   atomPerson `xml:"author"`
	Link     atomLink   `xml:"link"`
	Category struct {
		Term string `xml:"term,attr"`
	} `xml:"category"`
	Content struct {
		Type string `xml:"type,attr"`
		Text string `xml:",chardata"`
	} `xml:"content"`
}

type atomLink struct {
	Href string `xml:"href,attr"`
}

// feed serves somebody's notifications at their private address.
func (s *server) feed(w http.ResponseWriter, r *http.Request) {
	login, n, err := s.Service.Notifications.Feed(r.Context(), strings.TrimSuffix(chi.URLParam(r, "secret"), ".atom"))
	if err != nil {
		writeProblem(w, s.problemOf(r.Context(), err))
		return
	}
	scheme := "http"
	if s.Secure {
		scheme = "https"
	}
	home := url.URL{Scheme: scheme, Host: r.Host}
	f := atomFeed{ID: fmt.Sprintf("tag:%s,2026:notifications/%s", r.Host, login), Title: "Tavrin: notifications of " + login,
		Updated: time.Unix(0, 0).UTC().Format(time.RFC3339), Author: atomPerson{"Tavrin"}}
	for _, x := range n.Notifications {
		e := atomEntry{ID: fmt.Sprintf("tag:%s,2026:journal/%d", r.Host, x.Seq), Title: x.Text,
			Updated: x.At.Format(time.RFC3339), Author: atomPerson{x.By}}
		e.Category.Term = x.Kind
		e.Content.Type, e.Content.Text = "text", x.Text
		at := home.JoinPath(x.Repository)
		if x.Number > 0 {
			at = at.JoinPath("changes", fmt.Sprint(x.Number))
		}
		e.Link.Href = at.String()
		f.Entries = append(f.Entries, e)
	}
	if len(f.Entries) > 0 {
		f.Updated = f.Entries[0].Updated
	}
	body, err := xml.MarshalIndent(f, "", "  ")
	if err != nil {
		writeProblem(w, s.problemOf(r.Context(), err))
		return
	}
	sum := sha256.Sum256(body)
	tag := `"` + hex.EncodeToString(sum[:8]) + `"`
	w.Header().Set("ETag", tag)
	w.Header().Set("Cache-Control", "private, no-cache")
	w.Header().Set("Referrer-Policy", "no-referrer")
	if r.Header.Get("If-None-Match") == tag {
		w.WriteHeader(http.StatusNotModified)
		return
	}
	w.Header().Set("Content-Type", "application/atom+xml; charset=utf-8")
	fmt.Fprint(w, xml.Header)
	w.Write(body)
}
