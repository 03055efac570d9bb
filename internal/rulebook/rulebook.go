package rulebook

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"gorm.io/gorm"

	"tavrin/internal/accounts"
	"tavrin/internal/core/change"
	"tavrin/internal/core/event"
	"tavrin/internal/core/rules"
	"tavrin/internal/recall"
	"tavrin/internal/records"
)

// shelf is where a rules document belongs: a repository or a house.
type shelf struct {
	repo  *records.Repository // nil for a house's
	house *records.House      // nil for a repository's
}

// Name is HOUSE/NAME or HOUSE.
func (h shelf) Name() string {
	if h.repo != nil {
		return h.repo.Name
	}
	return h.house.Name
}

// of is how sources name the document: nothing for a repository's own.
func (h shelf) of() string {
	if h.repo != nil {
		return ""
	}
	return "house " + h.house.Name
}

// rows narrows a query to the shelf's rows.
func (h shelf) rows(db *gorm.DB) *gorm.DB {
	if h.repo != nil {
		return db.Where("repository_id = ?", h.repo.ID)
	}
	return db.Where("house_id = ?", h.house.ID)
}

// ids are the shelf's columns: the one is set, the other is not.
func (h shelf) ids() (repo, house *int64) {
	if h.repo != nil {
		return &h.repo.ID, nil
	}
	return nil, &h.house.ID
}

// Newest returns the version in force; version 0 when there is none.
func (h shelf) Newest(db *gorm.DB) (records.RulesVersion, error) {
	key := newestKey{}
	if h.repo != nil {
		key.repo = h.repo.ID
	} else {
		key.house = h.house.ID
	}
	return records.Known(db, records.Rules, key, func() (row records.RulesVersion, err error) {
		err = h.rows(db).Order("version DESC").Limit(1).Find(&row).Error
		return row, err
	})
}

// newestKey names the newest version of a repository's or a house's rules.
type newestKey struct{ repo, house int64 }

// at returns one version; version 0 is the empty one.
func (h shelf) at(db *gorm.DB, version int) (records.RulesVersion, error) {
	var row records.RulesVersion
	if version == 0 {
		return row, nil
	}
	err := h.rows(db).Where("version = ?", version).First(&row).Error
	return row, records.OrUnknown(err, "%s has no rules version %d", h.Name(), version)
}

// InForce is the rules that hold for a repository now.
type InForce struct {
	Own, House records.RulesVersion // version 0: none applied
	Set        *rules.Set           // nothing suspended
	Suspended  []change.Suspension
}

// Now is the set without what is suspended.
func (f *InForce) Now() *rules.Set { return f.Set.Without(f.Suspended) }

// SameAs says whether two readings found the same rules in force.
func (f *InForce) SameAs(o *InForce) bool {
	return f.Own.ID == o.Own.ID && f.House.ID == o.House.ID && slices.Equal(f.Suspended, o.Suspended)
}

// Versions are those that hold for a repository, without being read.
func (s *Rulebook) Versions(db *gorm.DB, repo *records.Repository) (InForce, error) {
	var f InForce
	var err error
	if f.Own, err = (shelf{repo: repo}).Newest(db); err != nil {
		return f, err
	}
	f.House, err = (shelf{house: &records.House{ID: repo.HouseID}}).Newest(db)
	return f, err
}

// RulesOf returns the rules in force for a repository.
func (s *Rulebook) RulesOf(db *gorm.DB, repo *records.Repository) (*InForce, error) {
	f, err := s.Versions(db, repo)
	if err != nil {
		return nil, err
	}
	if f.Set, err = s.setOf(repo, f.House, f.Own); err != nil {
		return nil, err
	}
	f.Suspended, err = s.suspendedNow(db, repo)
	return &f, err
}

// suspendedNow lists the protections that are suspended for a repository at this moment, in its own rules and its
// house's.
func (s *Rulebook) suspendedNow(db *gorm.DB, repo *records.Repository) ([]change.Suspension, error) {
	open, err := records.Known(db, records.Rules, "suspensions", func() (rows []records.Suspension, err error) {
		return rows, db.Where("ended_at IS NULL").Order("id").Find(&rows).Error
	})
	now := s.records.Now()
	var out []change.Suspension
	for _, r := range open {
		if !r.Until.After(now) || !is(r.RepositoryID, repo.ID) && !is(r.HouseID, repo.HouseID) {
			continue
		}
		x := change.Suspension{Protection: r.Protection, Until: r.Until.UTC(), By: r.SuspendedBy, Reason: r.Reason}
		if r.HouseID != nil {
			x.Document = "house " + houseName(repo)
		}
		out = append(out, x)
	}
	return out, err
}

func is(id *int64, wanted int64) bool { return id != nil && *id == wanted }

func houseName(repo *records.Repository) string {
	house, _, _ := strings.Cut(repo.Name, "/")
	return house
}

// setOf puts two versions together, either of which may be none. It is remembered by the texts, not by the numbers of
// their records: what is put together within a write that fails must not stand for the records that take those numbers
// later.
func (s *Rulebook) setOf(repo *records.Repository, house, own records.RulesVersion) (*rules.Set, error) {
	of := fmt.Sprintf("%q %d %d %d ", repo.Name, house.Version, own.Version, len(house.Text)) + house.Text + own.Text
	weigh := func(*rules.Set) int { return 1 + len(of)/200 }
	return recall.Of(s.memory, recall.Key{What: "set", Repo: repo.ID, Of: of}, weigh, func() (*rules.Set, error) {
		houseDoc, err := s.houseDocument(house)
		if err != nil {
			return nil, err
		}
		ownDoc, err := documentOf(own, rules.Under{House: houseDoc, Accepted: true})
		if err != nil {
			return nil, err
		}
		return layered(repo, houseDoc, house.Version, ownDoc, own.Version), nil
	})
}

// layered puts a house's document and a repository's own together.
func layered(repo *records.Repository, house *rules.Document, houseVersion int, own *rules.Document,
	version int) *rules.Set {
	return rules.NewSet(repo.Name, rules.Layer{Document: house, Of: "house " + houseName(repo), Version: houseVersion},
		rules.Layer{Document: own, Version: version})
}

// houseDocument is documentOf for a house, whose repositories share what is read.
func (s *Rulebook) houseDocument(row records.RulesVersion) (*rules.Document, error) {
	weigh := func(*rules.Document) int { return 1 + len(row.Text)/50 }
	return recall.Of(s.memory, recall.Key{What: "house rules", Of: fmt.Sprint(row.ID != 0) + row.Text}, weigh, func() (*rules.Document, error) {
		return documentOf(row, ofHouse)
	})
}

// ofHouse is how a house's document on record is read.
var ofHouse = rules.Under{OfHouse: true, Accepted: true}

// documentOf reads a version on record; nil for none.
func documentOf(row records.RulesVersion, as rules.Under) (*rules.Document, error) {
	if row.ID == 0 {
		return nil, nil
	}
	doc, findings := as.Parse(row.Text)
	if len(findings) > 0 {
		return nil, fmt.Errorf("rules version %d on record cannot be read: %s", row.Version, findings[0])
	}
	return doc, nil
}

// placeOf says as what a shelf's documents are read: a house's, or a repository's under its house's in force.
func placeOf(db *gorm.DB, h shelf) (rules.Under, error) {
	if h.repo == nil {
		return rules.Under{OfHouse: true}, nil
	}
	row, err := (shelf{house: &records.House{ID: h.repo.HouseID}}).Newest(db)
	if err != nil {
		return rules.Under{}, err
	}
	house, err := documentOf(row, ofHouse)
	return rules.Under{House: house}, err
}

// Differences says in what two documents of a shelf differ, either nil for none, beside those that hold together with
// them: the house's, or its repositories'.
func Differences(db *gorm.DB, h shelf, was, now *rules.Document) ([]rules.Difference, error) {
	as, err := placeOf(db, h)
	if err != nil {
		return nil, err
	}
	others := []*rules.Document{as.House}
	if h.repo == nil {
		repos, err := accounts.RepositoriesOf(db, *h.house)
		if err != nil {
			return nil, err
		}
		for i := range repos {
			row, err := (shelf{repo: &repos[i]}).Newest(db)
			if err != nil {
				return nil, err
			}
			doc, err := documentOf(row, rules.Under{House: was, Accepted: true})
			if err != nil {
				return nil, err
			}
			others = append(others, doc)
		}
	}
	return rules.Compare(was, now, others...), nil
}

// EndSuspensions notes the suspensions whose time is over.
func (s *Rulebook) EndSuspensions(ctx context.Context) error {
	var over []records.Suspension
	db := s.records.Read(ctx)
	if err := db.Where("ended_at IS NULL AND until <= ?", s.records.Now()).Order("id").Find(&over).Error; err != nil ||
		len(over) == 0 {
		return err
	}
	defer s.judgeNow(ctx)
	return s.records.Write(ctx, func(tx *records.Tx) error {
		for i := range over {
			if err := s.endSuspension(tx, &over[i], records.Itself, over[i].Until, "its time is over"); err != nil {
				return err
			}
		}
		return nil
	})
}

func (s *Rulebook) endSuspension(tx *records.Tx, row *records.Suspension, by string, at time.Time, why string) error {
	h, err := ShelfOf(tx.DB, row.RepositoryID, row.HouseID)
	if err != nil {
		return err
	}
	if err := tx.Model(row).Update("ended_at", at).Error; err != nil {
		return err
	}
	if err := s.judgeAgain(tx, h); err != nil {
		return err
	}
	return tx.Record(by, h.repo, event.RulesResumed{RulesOf: h.Name(), Protection: row.Protection, Why: why})
}

// ShelfOf finds the repository or house of a row.
func ShelfOf(db *gorm.DB, repo, house *int64) (shelf, error) {
	if repo != nil {
		var r records.Repository
		err := db.First(&r, *repo).Error
		return shelf{repo: &r}, err
	}
	var h records.House
	err := db.First(&h, *house).Error
	return shelf{house: &h}, err
}
