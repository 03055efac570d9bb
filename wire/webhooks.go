package wire

import "time"

// Webhook is a standing order to send events of a repository, of a house's repositories, or of the whole service.
type Webhook struct {
	ID          int64    `json:"id"`
	Of          string   `json:"of" doc:"HOUSE/NAME, HOUSE, or empty: the whole service" example:"growers/irrigation"`
	Name        string   `json:"name" example:"builds"`
	URL         string   `json:"url" doc:"where events go; ${EXPRESSION} stands for what it makes of the event"`
	Events      []string `json:"events" doc:"kinds of events, or globs over them" example:"check.asked"`
	Branches    []string `json:"branches" doc:"globs; only events about such a branch. Empty: all"`
	Paths       []string `json:"paths" doc:"globs; only events that bring such a path. Empty: all"`
	When        string   `json:"when,omitempty" doc:"expression (CEL) over the event; only events for which it is true"`
	Headers     []string `json:"headers" doc:"names of further headers; their values are not shown"`
	Body        string   `json:"body,omitempty" doc:"template of the body; absent: the event itself (CloudEvents 1.0)"`
	ContentType string   `json:"content_type,omitempty" doc:"of the templated body"`
	AnyOrder    bool     `json:"any_order" doc:"deliveries do not wait for those before them"`
	Off         string   `json:"off,omitempty" doc:"why nothing is sent; absent: it is sent"`

	Secret       string     `json:"secret,omitempty" doc:"that deliveries are signed with; only in the answer that made it"`
	OldUntil     *time.Time `json:"old_secret_until,omitempty" doc:"until when deliveries carry the signature by the secret before, too"`
	Waiting      int        `json:"waiting" doc:"deliveries on their way"`
	Parked       int        `json:"parked" doc:"deliveries that were given up and can be sent again"`
	FailingSince *time.Time `json:"failing_since,omitempty" doc:"the first failure after the last success"`
	Trouble      string     `json:"trouble,omitempty" doc:"the last failure"`
	MadeBy       string     `json:"made_by"`
	CreatedAt    time.Time  `json:"created_at"`
}

// NewWebhook is what a webhook is made from.
type NewWebhook struct {
	Of          string            `json:"of,omitempty" doc:"HOUSE/NAME or HOUSE; absent: the whole service, for administrators" example:"growers/irrigation"`
	Name        string            `json:"name" example:"builds"`
	URL         string            `json:"url" example:"https://builds.example/hooks/irrigation"`
	Events      []string          `json:"events" example:"check.asked"`
	Branches    []string          `json:"branches,omitempty"`
	Paths       []string          `json:"paths,omitempty"`
	When        string            `json:"when,omitempty" doc:"expression (CEL) over the event; only events for which it is true" example:"has(data.details.tickets)"`
	Headers     map[string]string `json:"headers,omitempty" doc:"further headers; values are kept as secrets"`
	Body        string            `json:"body,omitempty"`
	ContentType string            `json:"content_type,omitempty" doc:"absent: application/json"`
	AnyOrder    bool              `json:"any_order,omitempty"`
	Secret      string            `json:"secret,omitempty" doc:"whsec_ and the base64 of 24 to 64 bytes; absent: the service makes one"`
}

// WebhookEdit is what is to be another of a webhook; what is absent stays.
type WebhookEdit struct {
	Name        *string            `json:"name,omitempty"`
	URL         *string            `json:"url,omitempty"`
	Events      *[]string          `json:"events,omitempty"`
	Branches    *[]string          `json:"branches,omitempty"`
	Paths       *[]string          `json:"paths,omitempty"`
	When        *string            `json:"when,omitempty"`
	Headers     *map[string]string `json:"headers,omitempty" doc:"all of them anew"`
	Body        *string            `json:"body,omitempty" doc:"empty: the event itself"`
	ContentType *string            `json:"content_type,omitempty"`
	AnyOrder    *bool              `json:"any_order,omitempty"`
	Off         *bool              `json:"off,omitempty" doc:"switch it off, or on again"`
}

// NewSecret replaces the secret of a webhook.
type NewSecret struct {
	Secret string `json:"secret,omitempty" doc:"absent: the service makes one"`
}

// Delivery is one event on its way by one webhook.
type Delivery struct {
	ID        int64      `json:"id"`
	Webhook   int64      `json:"webhook"`
	Message   string     `json:"message" doc:"its webhook-id, the same at every try"`
	Event     int64      `json:"event,omitempty" doc:"number of the journal's line; absent: a test"`
	Kind      string     `json:"kind"`
	Text      string     `json:"text,omitempty" doc:"what happened, in a sentence"`
	State     string     `json:"state" enum:"waiting,delivered,parked,dropped" doc:"dropped: it was not for the webhook after all, by paths or condition; or a test that failed"`
	Attempts  int        `json:"attempts"`
	NextAt    *time.Time `json:"next_at,omitempty" doc:"when it is tried again"`
	Status    int        `json:"status,omitempty" doc:"of the last answer; absent: none came"`
	Error     string     `json:"error,omitempty" doc:"what was wrong at the last try"`
	CreatedAt time.Time  `json:"created_at"`
	EndedAt   *time.Time `json:"ended_at,omitempty"`

	Payload string            `json:"payload,omitempty" doc:"the body as it was sent; only of one delivery"`
	Tries   []DeliveryAttempt `json:"tries,omitempty" doc:"only of one delivery"`
}

// DeliveryAttempt is one try.
type DeliveryAttempt struct {
	Number       int               `json:"number"`
	At           time.Time         `json:"at"`
	Milliseconds int64             `json:"milliseconds"`
	URL          string            `json:"url"`
	Request      map[string]string `json:"request" doc:"headers that were sent, secrets masked"`
	Status       int               `json:"status,omitempty"`
	Response     map[string]string `json:"response,omitempty" doc:"headers that came back"`
	Answer       string            `json:"answer,omitempty" doc:"the beginning of what came back"`
	Error        string            `json:"error,omitempty"`
}

// WebhookQuery says whose webhooks are listed.
type WebhookQuery struct {
	Of string `query:"of" doc:"HOUSE/NAME or HOUSE; absent: the whole service's, for administrators"`
}

// WebhookChanged names a webhook.
type WebhookChanged struct {
	WithID
	Body WebhookEdit
}

// SecretReplaced names a webhook.
type SecretReplaced struct {
	WithID
	Body NewSecret
}

// DeliveryQuery says which deliveries of a webhook are listed.
type DeliveryQuery struct {
	WithID
	State  string `query:"state" enum:"waiting,delivered,parked,dropped" doc:"absent: all but those dropped"`
	Before int64  `query:"before" minimum:"0" doc:"only those before this one"`
	Limit  int    `query:"limit" minimum:"1" maximum:"200" default:"50"`
}

// Destination is a place outside that may be called.
type Destination struct {
	Destination string `json:"destination" doc:"as the administrator wrote it" example:"https://builds.example/hooks"`
}

// Tracker is what a house asks about the tickets that changes refer to.
type Tracker struct {
	House        string     `json:"house" example:"growers"`
	URL          string     `json:"url" doc:"what is asked; {ticket} stands for the ticket" example:"https://tickets.example/api/{ticket}"`
	Headers      []string   `json:"headers" doc:"names of further headers; their values are not shown"`
	SetBy        string     `json:"set_by"`
	SetAt        time.Time  `json:"set_at"`
	FailingSince *time.Time `json:"failing_since,omitempty" doc:"the first failure after the last answer"`
	Trouble      string     `json:"trouble,omitempty" doc:"the last failure"`
	TryAt        *time.Time `json:"try_at,omitempty" doc:"until then it is not asked"`
}

// NewTracker says what a house asks from now on.
type NewTracker struct {
	URL     string            `json:"url" example:"https://tickets.example/api/{ticket}"`
	Headers map[string]string `json:"headers,omitempty" doc:"further headers; values are kept as secrets"`
	Reason  string            `json:"reason" example:"the rules ask for open tickets"`
}

// TrackerTried is what came of asking a tracker once.
type TrackerTried struct {
	Request      string   `json:"request" example:"GET https://tickets.example/api/FEN-31"`
	Headers      []string `json:"headers" doc:"names of the further headers that were sent along"`
	Status       int      `json:"status,omitempty" doc:"of the answer; absent: none came"`
	Answer       string   `json:"answer,omitempty" doc:"the beginning of its body"`
	State        string   `json:"state,omitempty" enum:"open,closed,none" doc:"what it means; absent: nothing"`
	Title        string   `json:"title,omitempty"`
	Trouble      string   `json:"trouble,omitempty" doc:"why it means nothing, or why none came"`
	Milliseconds int64    `json:"milliseconds"`
}

// TicketAnswer is the newest answer of a tracker about a ticket that a change refers to.
type TicketAnswer struct {
	Ticket     string     `json:"ticket" example:"FEN-31"`
	State      string     `json:"state,omitempty" enum:"open,closed,none" doc:"none: there is no such ticket; absent: no answer yet"`
	Title      string     `json:"title,omitempty"`
	AnsweredAt *time.Time `json:"answered_at,omitempty"`
	Trouble    string     `json:"trouble,omitempty" doc:"what was wrong when it was asked last, since then"`
}
