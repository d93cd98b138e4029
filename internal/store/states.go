package store

import (
	"fmt"
	"strings"

	"gorm.io/gorm"
)

// Transition says which states may follow one state.
type Transition struct {
	From string
	To   []string // none for a state that is the end
	Why  string   // what leads on, in a few words
}

// Lifecycle is one kind of rows that has states, and which of them may follow which. The records watch over it: a
// change that is not in the table is carried out and counted.
type Lifecycle struct {
	What  string // for people
	Table string
	Begin []string // the states in which rows begin
	Steps []Transition
}

// Lifecycles are those of items, messages that could not be read, follow-ups, what is sent, and passes.
var Lifecycles = []Lifecycle{
	{"Item of a message", "journal", []string{"planned", "held", "failed", "left out"}, []Transition{
		{"planned", []string{"staged", "already there", "left out", "held", "failed", "set aside"},
			"its content is staged, or it turns out that nothing is to be written; set aside where its rule is switched off"},
		{"staged", []string{"filed", "planned", "already there", "left out", "failed"},
			"it gets its name; planned again where what was staged is gone"},
		{"held", []string{"planned", "set aside"}, "a person decides"},
		{"failed", []string{"planned", "set aside"}, "a person decides"},
		{"left out", []string{"planned", "held", "failed"}, "a pass decides it under a later state of its rule"},
		{"filed", nil, "taking back and filing again are rows of their own"},
		{"already there", nil, ""},
		{"set aside", []string{"planned"}, "its rule is switched on again, or a person tries again"},
	}},
	{"Message that could not be read", "retries", []string{"suspect", "waiting", "failed"}, []Transition{
		{"suspect", []string{"waiting", "failed"}, "it is read alone and fails"},
		{"waiting", []string{"failed", "suspect"}, "it fails too often; or the program ends while reading it"},
		{"failed", []string{"waiting", "set aside"}, "a person decides"},
		{"set aside", []string{"waiting"}, "it is looked at again"},
	}},
	{"Follow-up of a message", "follow_ups", []string{"waiting", "left out"}, []Transition{
		{"waiting", []string{"begun", "done", "left out", "failed", "set aside"}, "it is done, or there is a reason not to"},
		{"begun", []string{"done", "left out", "failed", "waiting"}, "a move or a draft is recorded before it is done"},
		{"failed", []string{"waiting", "set aside"}, "a person decides"},
		{"done", []string{"set aside"}, "a person takes back what was changed by hand"},
		{"left out", nil, ""},
		{"set aside", nil, ""},
	}},
	{"Mail or call", "post", []string{"waiting", "failed"}, []Transition{
		{"waiting", []string{"begun", "failed"}, "it is recorded before it is sent"},
		{"begun", []string{"done", "waiting", "failed", "unsure"}, "unsure where the program ended while it was sent"},
		{"failed", []string{"waiting", "set aside"}, "a person decides"},
		{"unsure", []string{"waiting", "set aside"}, "a person decides"},
		{"done", nil, ""},
		{"set aside", nil, ""},
	}},
	{"Pass", "passes", []string{"running", "done"}, []Transition{
		{"running", []string{"paused", "stopped", "done", "failed"}, "a person asks, or it ends"},
		{"paused", []string{"running", "stopped"}, "a person asks"},
		{"stopped", nil, ""},
		{"done", nil, ""},
		{"failed", nil, ""},
	}},
}

// mostUnexpected bounds how many changes are noted: the first ones tell what is wrong.
const mostUnexpected = 1000

// watchStates lets the one connection that writes note every change of a state that is not in its table.
func watchStates(db *gorm.DB) error {
	if err := db.Exec("CREATE TEMP TABLE IF NOT EXISTS unexpected (what TEXT NOT NULL)").Error; err != nil {
		return err
	}
	for i := range Lifecycles {
		l := &Lifecycles[i]
		var allowed []string
		for _, t := range l.Steps {
			for _, to := range t.To {
				allowed = append(allowed, fmt.Sprintf("(OLD.state = '%s' AND NEW.state = '%s')", t.From, to))
			}
		}
		err := db.Exec(fmt.Sprintf(`CREATE TEMP TRIGGER IF NOT EXISTS states_of_%[1]s AFTER UPDATE OF state ON main.%[1]s
			WHEN OLD.state <> NEW.state AND NOT (%[2]s) AND (SELECT count(*) FROM unexpected) < %[3]d
			BEGIN INSERT INTO unexpected (what) VALUES ('%[1]s ' || NEW.id || ': ' || OLD.state || ' to ' || NEW.state); END`,
			l.Table, strings.Join(allowed, " OR "), mostUnexpected)).Error
		if err != nil {
			return fmt.Errorf("watching the states of %s: %w", l.Table, err)
		}
	}
	return nil
}

// Unexpected lists changes of states since the records were opened that are in no table, up to a bound. What was noted
// goes with its connection; a new one notes again from here on.
func (s *Store) Unexpected() (found []string, err error) {
	// not as a change: that one succeeds does not say that the disk has room again
	err = s.write.Raw("SELECT what FROM temp.unexpected").Scan(&found).Error
	if err != nil && watchStates(s.write) == nil {
		err = s.write.Raw("SELECT what FROM temp.unexpected").Scan(&found).Error
	}
	return found, explain(err)
}
