package wire

import "time"

// Notification is something that others did to what a person follows or has a part in.
type Notification struct {
	Seq        int64     `json:"seq" doc:"line of the journal"`
	At         time.Time `json:"at"`
	Repository string    `json:"repository"`
	Number     int       `json:"number,omitempty" doc:"of the change; absent: it is about the repository"`
	Title      string    `json:"title,omitempty" doc:"of the change"`
	Kind       string    `json:"kind" doc:"what happened, such as review.object"`
	By         string    `json:"by"`
	Text       string    `json:"text" doc:"the same in a sentence"`
	New        bool      `json:"new" doc:"you have not seen it yet"`
}

// Notifications are a person's notifications, newest first.
type Notifications struct {
	New           int            `json:"new" doc:"how many you have not seen, at most 500"`
	Notifications []Notification `json:"notifications"`
}

// Following says what a person follows by their own choice.
type Following struct {
	Repository string `json:"repository"`
	Number     int    `json:"number,omitempty" doc:"of a change; absent: the whole repository"`
	Muted      bool   `json:"muted" doc:"it would be followed because you have a part in it, and you unfollowed it"`
}

// Feed is the address of a person's Atom feed.
type Feed struct {
	Path      string    `json:"path" doc:"below the service's address; in the answer that makes it and never again: whoever knows it may read the feed"`
	CreatedAt time.Time `json:"created_at"`
}

// Digest is what somebody has missed: what waits for them, and what happened.
type Digest struct {
	Since         time.Time      `json:"since"`
	Desk          []DeskItem     `json:"desk"`
	Notifications []Notification `json:"notifications" doc:"newest first"`
}

// MailChoice says how often somebody is sent a digest by mail.
type MailChoice struct {
	Every   string     `json:"every" enum:"day,week,never"`
	To      string     `json:"to" doc:"the address of your account"`
	Offered bool       `json:"offered" doc:"the service sends mail at all"`
	NextAt  *time.Time `json:"next_at,omitempty" doc:"when the next one goes out"`
	Trouble string     `json:"trouble,omitempty" doc:"why the last one could not be sent"`
}

// NewMailChoice sets how often you are sent a digest.
type NewMailChoice struct {
	Every string `json:"every" enum:"day,week,never"`
}
