package event

import "fmt"

// OfWebhook is part of every event about a webhook itself.
type OfWebhook struct {
	Webhook int64  `json:"webhook" doc:"its number"`
	Name    string `json:"name"`
	Of      string `json:"of" doc:"HOUSE/NAME, HOUSE, or empty: the service"`
}

// Subject is webhook/NUMBER.
func (w OfWebhook) Subject() string { return fmt.Sprintf("webhook/%d", w.Webhook) }

func (w OfWebhook) text(by, verb string) string {
	of := w.Of
	if of == "" {
		of = "the service"
	}
	return fmt.Sprintf("%s %s webhook %s of %s", by, verb, w.Name, of)
}

// WebhookCreated says that events are sent somewhere from now on.
type WebhookCreated struct {
	OfWebhook
	Host   string   `json:"host" doc:"where to"`
	Events []string `json:"events"`
}

// Text implements Event.
func (e WebhookCreated) Text(by string) string {
	return e.text(by, "made") + fmt.Sprintf(", which sends %s to %s", listed(e.Events, "nothing"), e.Host)
}

// WebhookEdited says that somebody changed what a webhook sends, or where to.
type WebhookEdited struct {
	OfWebhook
	What []string `json:"what" doc:"which of its settings"`
}

// Text implements Event.
func (e WebhookEdited) Text(by string) string {
	return e.text(by, "edited") + ": " + listed(e.What, "nothing")
}

// WebhookDeleted says that a webhook is gone.
type WebhookDeleted struct{ OfWebhook }

// Text implements Event.
func (e WebhookDeleted) Text(by string) string { return e.text(by, "deleted") }

// WebhookSecretReplaced says that deliveries are signed by another secret.
type WebhookSecretReplaced struct{ OfWebhook }

// Text implements Event.
func (e WebhookSecretReplaced) Text(by string) string { return e.text(by, "replaced the secret of") }
