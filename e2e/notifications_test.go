package e2e

import (
	"encoding/xml"
	"io"
	"net/http"
	"strings"
	"testing"
	"time"

	"tavrin/client"
	"tavrin/wire"
)

// notifications lists the kinds of what somebody hears of that is new, oldest first.
func (w *town) notifications(login string) string {
	w.t.Helper()
	n, err := w.as(login).Notifications(w.t.Context(), 0)
	w.ok(err)
	var kinds []string
	for _, x := range n.Notifications {
		if x.New {
			kinds = append([]string{x.Kind}, kinds...)
		}
	}
	if len(kinds) != n.New {
		w.t.Errorf("%d are new, and %d are said to be", len(kinds), n.New)
	}
	return strings.Join(kinds, " ")
}

// People hear of what others did to what they have a part in or follow, once, and of nothing that they may not read (P11).
func TestP11Notifications(t *testing.T) {
	w := newTown(t)
	w.begin(simple)
	ctx := t.Context()
	k := w.propose("tamsin", "topic", "a", "a\n")
	expect := func(login, want string) {
		t.Helper()
		if got := w.notifications(login); got != want {
			t.Errorf("%s hears of %q, not %q", login, got, want)
		}
	}
	expect("tamsin", "")
	expect("wren", "")
	w.says("wren", 0, "you follow change 1", "follow", "1", "--repo", repo)
	w.approve("odo", k)
	expect("tamsin", "review.approved")
	expect("odo", "change.opened change.revised") // it reviewed it, so it has a part in it
	expect("wren", "change.opened change.revised review.approved")
	has(t, w.says("tamsin", 0, "1 new", "notifications"), "odo approved revision 1 of change 1")
	expect("tamsin", "")
	_, err := w.as("wren").BeginThread(ctx, repo, k.Number, wire.NewThread{Text: "why?"})
	w.ok(err)
	expect("tamsin", "thread.begun")
	w.says("tamsin", 0, "you do not follow change 1", "unfollow", "1", "--repo", repo)
	expect("tamsin", "") // muted, although it is theirs
	w.says("tamsin", 0, "you follow change 1", "follow", "1", "--repo", repo)
	expect("tamsin", "thread.begun")
	has(t, w.says("tamsin", 0, "1 new", "notifications", "--keep"), "began a discussion")
	expect("tamsin", "thread.begun")

	expect("ines", "")
	w.says("ines", 0, "you follow growers/irrigation", "follow", "--repo", repo)
	w.propose("wren", "other", "b", "b\n")
	expect("ines", "change.opened change.opened") // of a whole repository: what opens and lands, not every word
	followed, err := w.as("ines").Following(ctx)
	w.ok(err)
	if len(followed) != 1 || followed[0] != (wire.Following{Repository: repo}) {
		t.Errorf("ines follows %+v", followed)
	}
	w.says("ines", 0, "you do not follow growers/irrigation", "unfollow", "--repo", repo)
	expect("ines", "")

	// Somebody who loses their access hears of nothing more, nor sees what they followed.
	w.ok(w.admin.Grant(ctx, repo, "wren", "none"))
	expect("wren", "")
	if followed, err := w.as("wren").Following(ctx); err != nil || len(followed) != 0 {
		t.Errorf("wren follows %+v, %v", followed, err)
	}
	_, err = w.as("wren").Follow(ctx, repo, k.Number, true)
	problem(t, err, 404, "growers/irrigation")
	nobody, err := client.New(w.url, "")
	w.ok(err)
	_, err = nobody.Notifications(ctx, 0)
	problem(t, err, 401, "sign in")

	has(t, w.says("odo", 0, "Since ", "digest", "--since", "1h"), "tamsin opened change 1", "needs 1 approval")
	d, err := w.as("odo").Digest(ctx, time.Now().Add(time.Hour))
	w.ok(err)
	if len(d.Notifications) != 0 || len(d.Desk) == 0 {
		t.Errorf("of the future: %+v", d)
	}
}

// A feed is read by whoever knows its address, until that is revoked, and never without (P11).
func TestP11Feed(t *testing.T) {
	w := newTown(t)
	w.begin(simple)
	ctx := t.Context()
	k := w.propose("tamsin", "topic", "a", "a\n")
	w.approve("odo", k)
	address := strings.Fields(w.says("tamsin", 0, "/feeds/", "feed"))[0]
	fetch := func(address, tag string) (int, string, string) {
		t.Helper()
		req, err := http.NewRequestWithContext(ctx, http.MethodGet, address, nil)
		w.ok(err)
		if tag != "" {
			req.Header.Set("If-None-Match", tag)
		}
		resp, err := http.DefaultClient.Do(req)
		w.ok(err)
		defer resp.Body.Close()
		body, err := io.ReadAll(resp.Body)
		w.ok(err)
		return resp.StatusCode, string(body), resp.Header.Get("ETag")
	}
	status, body, tag := fetch(address, "")
	var feed struct {
		XMLName xml.Name `xml:"http://www.w3.org/2005/Atom feed"`
		ID      string   `xml:"id"`
		Updated string   `xml:"updated"`
		Entries []struct {
			ID      string `xml:"id"`
			Title   string `xml:"title"`
			Updated string `xml:"updated"`
			Link    struct {
				Href string `xml:"href,attr"`
			} `xml:"link"`
		} `xml:"entry"`
	}
	if err := xml.Unmarshal([]byte(body), &feed); err != nil || status != 200 {
		t.Fatalf("%d, %v:\n%s", status, err, body)
	}
	if len(feed.Entries) != 1 || feed.Entries[0].Title != "odo approved revision 1 of change 1" || feed.Entries[0].Link.Href != w.url+"/growers/irrigation/changes/1" || feed.Entries[0].Updated != feed.Updated || !strings.HasPrefix(feed.ID, "tag:") {
		t.Errorf("the feed is %+v", feed)
	}
	if status, _, _ := fetch(address, tag); status != http.StatusNotModified {
		t.Errorf("unchanged, it answers %d", status)
	}
	w.says("tamsin", 0, "/feeds/", "feed") // another: the first is good for nothing any more
	if status, body, _ := fetch(address, ""); status != 404 || !strings.Contains(body, "revoked") {
		t.Errorf("the address before answers %d %s", status, body)
	}
	w.says("tamsin", 0, "no longer works", "feed", "--revoke")
	w.says("tamsin", 1, "no feed to revoke", "feed", "--revoke")
	second, err := w.as("odo").MakeFeed(ctx)
	w.ok(err)
	w.disable("odo", true)
	if status, _, _ := fetch(w.url+second.Path, ""); status != 404 {
		t.Errorf("of somebody disabled, it answers %d", status)
	}
	if journal := w.says("admin", 0, "feed.made", "journal", "list", "--all"); strings.Contains(journal, strings.TrimSuffix(second.Path[len("/feeds/"):], ".atom")) {
		t.Error("the address stands in the journal")
	}
}
