package event

import (
	"fmt"
	"time"
)

// PersonCreated says that a person was made.
type PersonCreated struct {
	Login string `json:"login"`
	Admin bool   `json:"admin" doc:"a service administrator"`
	First bool   `json:"first,omitempty" doc:"the service made it at its first start"`
}

// Subject is person/LOGIN.
func (e PersonCreated) Subject() string { return "person/" + e.Login }

// Text implements Event.
func (e PersonCreated) Text(by string) string {
	if e.First {
		return "the service made its first administrator, " + e.Login
	}
	return fmt.Sprintf("%s made the person %s", by, e.Login)
}

// RobotCreated says that a robot was made.
type RobotCreated struct {
	Login string `json:"login"`
}

// Subject is robot/LOGIN.
func (e RobotCreated) Subject() string { return "robot/" + e.Login }

// Text implements Event.
func (e RobotCreated) Text(by string) string { return fmt.Sprintf("%s made the robot %s", by, e.Login) }

// AdminRecovered says that somebody on the machine itself made an administrator.
type AdminRecovered struct {
	Login string `json:"login"`
	Token int64  `json:"token" doc:"the number of the token that was made"`
}

// Subject is person/LOGIN.
func (e AdminRecovered) Subject() string { return "person/" + e.Login }

// Text implements Event.
func (e AdminRecovered) Text(string) string {
	return fmt.Sprintf("somebody with access to the service's folder made %s an administrator with a new token (%d)",
		e.Login, e.Token)
}

// AccountDisabled says that an account was disabled, and what ended with that.
type AccountDisabled struct {
	Login    string `json:"login"`
	Tokens   int    `json:"tokens"`
	Sessions int    `json:"sessions"`
	Leases   int    `json:"leases"`
}

// Subject is account/LOGIN.
func (e AccountDisabled) Subject() string { return "account/" + e.Login }

// Text implements Event.
func (e AccountDisabled) Text(by string) string { return fmt.Sprintf("%s disabled %s", by, e.Login) }

// AccountEnabled says that an account was taken back into use.
type AccountEnabled struct {
	Login string `json:"login"`
}

// Subject is account/LOGIN.
func (e AccountEnabled) Subject() string { return "account/" + e.Login }

// Text implements Event.
func (e AccountEnabled) Text(by string) string { return fmt.Sprintf("%s enabled %s", by, e.Login) }

// TeamCreated says that a team was made.
type TeamCreated struct {
	Team     string   `json:"team"`
	Members  []string `json:"members"`
	Managers []string `json:"managers" doc:"who may change it, besides administrators"`
}

// Subject is team/NAME.
func (e TeamCreated) Subject() string { return "team/" + e.Team }

// Text implements Event.
func (e TeamCreated) Text(by string) string {
	return fmt.Sprintf("%s made team %s with %s, managed by %s", by, e.Team, listed(e.Members, "nobody"),
		listed(e.Managers, "nobody"))
}

// TeamChanged says that the people of a team are others; what is absent stayed.
type TeamChanged struct {
	Team     string    `json:"team"`
	Was      []string  `json:"was" doc:"its members before"`
	Members  *[]string `json:"members,omitempty"`
	Managers *[]string `json:"managers,omitempty"`
}

// Subject is team/NAME.
func (e TeamChanged) Subject() string { return "team/" + e.Team }

// Text implements Event.
func (e TeamChanged) Text(by string) string {
	text := fmt.Sprintf("%s changed team %s", by, e.Team)
	if e.Members != nil {
		text = fmt.Sprintf("%s set the members of team %s to %s", by, e.Team, listed(*e.Members, "nobody"))
	}
	if e.Managers != nil {
		text += ", managed by " + listed(*e.Managers, "nobody")
	}
	return text
}

// RoleGranted says that somebody has another role in a house or a repository.
type RoleGranted struct {
	Who   string `json:"who" doc:"a login, or team:NAME"`
	Where string `json:"where" doc:"HOUSE or HOUSE/NAME"`
	Role  string `json:"role" doc:"none: it was taken away"`
}

// Subject is grant/WHERE/WHO.
func (e RoleGranted) Subject() string { return "grant/" + e.Where + "/" + e.Who }

// Text implements Event.
func (e RoleGranted) Text(by string) string {
	return fmt.Sprintf("%s gave %s the role %s in %s", by, e.Who, e.Role, e.Where)
}

// OfToken is part of every event of a token.
type OfToken struct {
	Token int64 `json:"token" doc:"its number"`
}

// Subject is token/NUMBER.
func (t OfToken) Subject() string { return fmt.Sprintf("token/%d", t.Token) }

// TokenCreated says that a token was made.
type TokenCreated struct {
	OfToken
	Name      string    `json:"name"`
	Login     string    `json:"login" doc:"whose it is"`
	Scope     string    `json:"scope"`
	Bindings  []string  `json:"bindings" doc:"what it is for, where its scope is confined: HOUSE/NAME, or HOUSE/NAME:CHECK"`
	ExpiresAt time.Time `json:"expires_at"`
}

// Text implements Event.
func (e TokenCreated) Text(by string) string {
	return fmt.Sprintf("%s made the %s token %q for %s", by, e.Scope, e.Name, e.Login)
}

// TokenRevoked says that a token was revoked.
type TokenRevoked struct {
	OfToken
	Name string `json:"name"`
}

// Text implements Event.
func (e TokenRevoked) Text(by string) string {
	return fmt.Sprintf("%s revoked token %d, %q", by, e.Token, e.Name)
}

// TokenRefused says that a token was shown that is good no more: somebody has kept it.
type TokenRefused struct {
	OfToken
	Name  string `json:"name"`
	Login string `json:"login" doc:"whose it was"`
	Why   string `json:"why"`
}

// Text implements Event.
func (e TokenRefused) Text(string) string {
	return fmt.Sprintf("token %d, %q, of %s was shown, and %s", e.Token, e.Name, e.Login, e.Why)
}

// SigninShutOut says that too many sign-ins failed from one address.
type SigninShutOut struct {
	Address string `json:"address"`
}

// Subject is address/ADDRESS.
func (e SigninShutOut) Subject() string { return "address/" + e.Address }

// Text implements Event.
func (e SigninShutOut) Text(string) string {
	return fmt.Sprintf("too many sign-ins from %s failed", e.Address)
}

// SessionBegun says that somebody signed in to the console.
type SessionBegun struct{ OfToken }

// Text implements Event.
func (e SessionBegun) Text(by string) string {
	return fmt.Sprintf("%s signed in to the console with token %d", by, e.Token)
}

// SessionConfirmed says that somebody showed the token again that their session was begun with.
type SessionConfirmed struct {
	OfToken
	Until time.Time `json:"until" doc:"until when they may change rules and access"`
}

// Text implements Event.
func (e SessionConfirmed) Text(by string) string {
	return fmt.Sprintf("%s confirmed who they are, until %s", by, e.Until.Format("15:04"))
}

// KeyAdded says that somebody registered a key by which they sign commits.
type KeyAdded struct {
	Login       string `json:"login"`
	Fingerprint string `json:"fingerprint"`
	Key         string `json:"key" doc:"in the form of authorized_keys"`
}

// Subject is account/LOGIN.
func (e KeyAdded) Subject() string { return "account/" + e.Login }

// Text implements Event.
func (e KeyAdded) Text(by string) string {
	return fmt.Sprintf("%s registered the key %s", by, e.Fingerprint)
}

// KeyRemoved says that a key counts no more.
type KeyRemoved struct {
	Key         int64  `json:"key" doc:"its number"`
	Fingerprint string `json:"fingerprint"`
}

// Subject is key/NUMBER.
func (e KeyRemoved) Subject() string { return fmt.Sprintf("key/%d", e.Key) }

// Text implements Event.
func (e KeyRemoved) Text(by string) string {
	return fmt.Sprintf("%s removed the key %s", by, e.Fingerprint)
}

// FeedMade says that somebody's feed has a new private address.
type FeedMade struct {
	Login string `json:"login"`
}

// Subject is account/LOGIN.
func (e FeedMade) Subject() string { return "account/" + e.Login }

// Text implements Event.
func (e FeedMade) Text(by string) string { return by + " made an address for their feed" }

// FeedRevoked says that the address of somebody's feed is good for nothing any more.
type FeedRevoked struct {
	Login string `json:"login"`
}

// Subject is account/LOGIN.
func (e FeedRevoked) Subject() string { return "account/" + e.Login }

// Text implements Event.
func (e FeedRevoked) Text(by string) string { return by + " revoked the address of their feed" }
