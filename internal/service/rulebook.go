package service

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"gorm.io/gorm"

	"tavrin/internal/core/rules"
	"tavrin/internal/store"
)

// shelf is where a rules document belongs: a repository or a house.
type shelf struct {
	repo  *store.Repository // nil for a house's
	house *store.House      // nil for a repository's
}

// name is HOUSE/NAME or HOUSE.
func (h shelf) name() string {
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

// newest returns the version in force; version 0 when there is none.
func (h shelf) newest(db *gorm.DB) (store.RulesVersion, error) {
	var row store.RulesVersion
	err := h.rows(db).Order("version DESC").Limit(1).Find(&row).Error
	return row, err
}

// at returns one version; version 0 is the empty one.
func (h shelf) at(db *gorm.DB, version int) (store.RulesVersion, error) {
	var row store.RulesVersion
	if version == 0 {
		return row, nil
	}
	err := h.rows(db).Where("version = ?", version).First(&row).Error
	return row, orUnknown(err, "%s has no rules version %d", h.name(), version)
}

// inForce is the rules that hold for a repository now.
type inForce struct {
	own, house store.RulesVersion // version 0: none applied
	set        *rules.Set         // nothing suspended
	suspended  []rules.Suspension
}

// now is the set without what is suspended.
func (f *inForce) now() *rules.Set { return f.set.Without(f.suspended) }

// sameAs says whether two readings found the same rules in force.
func (f *inForce) sameAs(o *inForce) bool {
	return f.own.ID == o.own.ID && f.house.ID == o.house.ID && slices.Equal(f.suspended, o.suspended)
}

// rulesOf returns the rules in force for a repository.
func (s *Service) rulesOf(db *gorm.DB, repo *store.Repository) (*inForce, error) {
	var f inForce
	var err error
	if f.own, err = (shelf{repo: repo}).newest(db); err != nil {
		return nil, err
	}
	house := store.House{ID: repo.HouseID}
	if f.house, err = (shelf{house: &house}).newest(db); err != nil {
		return nil, err
	}
	if f.set, err = s.setOf(repo, f.house, f.own); err != nil {
		return nil, err
	}
	f.suspended, err = s.suspendedNow(db, repo)
	return &f, err
}

// suspendedNow lists the protections that are suspended for a repository at this moment, in its own rules and its
// house's.
func (s *Service) suspendedNow(db *gorm.DB, repo *store.Repository) ([]rules.Suspension, error) {
	var rows []store.Suspension
	err := db.Where("ended_at IS NULL AND until > ? AND (repository_id = ? OR house_id = ?)", s.now(), repo.ID, repo.HouseID).Order("id").Find(&rows).Error
	var out []rules.Suspension
	for _, r := range rows {
		x := rules.Suspension{Protection: r.Protection, Until: r.Until.UTC(), By: r.SuspendedBy, Because: r.Because}
		if r.HouseID != nil {
			x.Document = "house " + houseName(repo)
		}
		out = append(out, x)
	}
	return out, err
}

func houseName(repo *store.Repository) string {
	house, _, _ := strings.Cut(repo.Name, "/")
	return house
}

// pair is all that a set is made of. It goes by the texts, not by the numbers of their records: what is put together
// within a write that fails must not stand for the records that take those numbers later.
type pair struct {
	repo                     string
	houseText, ownText       string
	houseVersion, ownVersion int
}

// setOf puts two versions together, either of which may be none.
func (s *Service) setOf(repo *store.Repository, house, own store.RulesVersion) (*rules.Set, error) {
	key := pair{repo.Name, house.Text, own.Text, house.Version, own.Version}
	if set, ok := s.sets.Load(key); ok {
		return set.(*rules.Set), nil
	}
	houseDoc, err := documentOf(house, ofHouse)
	if err != nil {
		return nil, err
	}
	ownDoc, err := documentOf(own, rules.Under{House: houseDoc, Accepted: true})
	if err != nil {
		return nil, err
	}
	set := layered(repo, houseDoc, house.Version, ownDoc, own.Version)
	s.sets.Store(key, set)
	return set, nil
}

// layered puts a house's document and a repository's own together.
func layered(repo *store.Repository, house *rules.Document, houseVersion int, own *rules.Document, version int) *rules.Set {
	return rules.NewSet(repo.Name, rules.Layer{Document: house, Of: "house " + houseName(repo), Version: houseVersion}, rules.Layer{Document: own, Version: version})
}

// ofHouse is how a house's document on record is read.
var ofHouse = rules.Under{OfHouse: true, Accepted: true}

// documentOf reads a version on record; nil for none.
func documentOf(row store.RulesVersion, as rules.Under) (*rules.Document, error) {
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
	row, err := (shelf{house: &store.House{ID: h.repo.HouseID}}).newest(db)
	if err != nil {
		return rules.Under{}, err
	}
	house, err := documentOf(row, ofHouse)
	return rules.Under{House: house}, err
}

// differences says in what two documents of a shelf differ, either nil for none, beside those that hold together with them: the
// house's, or its repositories'.
func (s *Service) differences(db *gorm.DB, h shelf, was, now *rules.Document) ([]rules.Difference, error) {
	as, err := placeOf(db, h)
	if err != nil {
		return nil, err
	}
	others := []*rules.Document{as.House}
	if h.repo == nil {
		repos, err := repositoriesOf(db, *h.house)
		if err != nil {
			return nil, err
		}
		for i := range repos {
			row, err := (shelf{repo: &repos[i]}).newest(db)
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

// rulesThen puts together the versions that something was judged by.
func (s *Service) rulesThen(db *gorm.DB, repo *store.Repository, own, house int) (*rules.Set, error) {
	ownRow, err := (shelf{repo: repo}).at(db, own)
	if err != nil {
		return nil, err
	}
	houseRow, err := (shelf{house: &store.House{ID: repo.HouseID, Name: houseName(repo)}}).at(db, house)
	if err != nil {
		return nil, err
	}
	return s.setOf(repo, houseRow, ownRow)
}

// endSuspensions notes the suspensions whose time is over.
func (s *Service) endSuspensions(db *gorm.DB, write func(func(tx *tx) error) error) error {
	var over []store.Suspension
	if err := db.Where("ended_at IS NULL AND until <= ?", s.now()).Order("id").Find(&over).Error; err != nil || len(over) == 0 {
		return err
	}
	return write(func(tx *tx) error {
		for i := range over {
			if err := s.endSuspension(tx, &over[i], itself, over[i].Until, "its time is over"); err != nil {
				return err
			}
		}
		return nil
	})
}

func (s *Service) endSuspension(tx *tx, row *store.Suspension, by string, at time.Time, why string) error {
	h, err := shelfOf(tx.DB, row.RepositoryID, row.HouseID)
	if err != nil {
		return err
	}
	if err := tx.Model(row).Update("ended_at", at).Error; err != nil {
		return err
	}
	if err := s.judgeAgain(tx, h); err != nil {
		return err
	}
	return tx.record(event{actor: by, kind: "rules.resumed", repo: h.repo, subject: "protection/" + row.Protection,
		text: fmt.Sprintf("protection %q of %s holds again: %s", row.Protection, h.name(), why), data: map[string]any{"protection": row.Protection, "rules_of": h.name()}})
}

// shelfOf finds the repository or house of a row.
func shelfOf(db *gorm.DB, repo, house *int64) (shelf, error) {
	if repo != nil {
		var r store.Repository
		err := db.First(&r, *repo).Error
		return shelf{repo: &r}, err
	}
	var h store.House
	err := db.First(&h, *house).Error
	return shelf{house: &h}, err
}
