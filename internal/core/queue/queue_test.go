package queue_test

import (
	"errors"
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
	"time"

	"diathermon/internal/core/queue"
)

var noon = time.Date(2026, 3, 1, 12, 0, 0, 0, time.UTC)

func of(ids ...string) (q queue.Queue) {
	for _, id := range ids {
		q = append(q, queue.Entry{ID: id, File: id + ".gcode", Wish: queue.Wish{Copies: 1}})
	}
	return q
}

func order(q queue.Queue) string {
	var ids []string
	for _, e := range q {
		ids = append(ids, e.ID)
	}
	return strings.Join(ids, "")
}

func TestEntriesGoWhereTheyArePut(t *testing.T) {
	for _, c := range []struct{ id, before, want string }{
		{"c", "a", "cabd"}, {"a", "", "bcda"}, {"a", "c", "bacd"}, {"b", "b", "abcd"}, {"d", "", "abcd"}, {"b", "c", "abcd"},
	} {
		q := of("a", "b", "c", "d")
		got, err := q.Move(c.id, c.before)
		if err != nil || order(got) != c.want || order(q) != "abcd" {
			t.Errorf("%s before %q: %s, %v, and the one before is %s", c.id, c.before, order(got), err, order(q))
		}
	}
	for _, c := range [][2]string{{"x", "a"}, {"a", "x"}} {
		if got, err := of("a", "b").Move(c[0], c[1]); !errors.Is(err, queue.ErrMissing) || order(got) != "ab" {
			t.Errorf("%v: %s, %v", c, order(got), err)
		}
	}
}

func TestATurnBeginsOnce(t *testing.T) {
	q := of("a", "b")
	q[0].Copies, q[0].After, q[0].Missed, q[0].Cause = 3, noon, true, "late"
	first := q[0].Turn()
	q = q.Begun(first)
	if q[0].Copies != 2 || q[0].ID != "a" || q[0].Missed || q[0].Cause != "" || !q[0].After.IsZero() {
		t.Errorf("after the first of three: %+v", q[0])
	}
	if again := q.Begun(first); again[0].Copies != 2 {
		t.Errorf("told twice it is %+v", again[0])
	}
	q = q.Begun(q[0].Turn())
	if q = q.Begun(q[0].Turn()); order(q) != "b" {
		t.Errorf("after the third: %s", order(q))
	}
}

func TestWhatIsDueBeginsAndWhatIsLateDoesNot(t *testing.T) {
	for _, c := range []struct {
		after time.Duration // from now on
		due   bool
		late  bool
	}{{time.Minute, false, false}, {0, true, false}, {-time.Minute, true, false}, {-queue.Late, true, false}, {-queue.Late - time.Second, false, true}, {-24 * time.Hour, false, true}, {24 * time.Hour, false, false}} {
		q := of("a", "b", "c")
		q[1].After = noon.Add(c.after)
		due, got := q.Due(noon)
		if (due != nil) != c.due || c.due && due.ID != "b" || got[1].Missed != c.late || got[0].Missed || q[1].Missed || c.late && got[1].Cause == "" {
			t.Errorf("%s: due %v, %+v", c.after, due, got)
		}
		if due, again := got.Due(noon.Add(-48 * time.Hour)); c.late && (due != nil || !again[1].Missed) {
			t.Errorf("%s: with the clock set back it is due again: %v", c.after, due)
		}
	}
	if due, got := (queue.Queue)(nil).Due(noon); due != nil || got != nil {
		t.Errorf("of nothing %v is due", due)
	}
}

func TestWishesHaveBounds(t *testing.T) {
	long, negative := 5*time.Hour, -time.Second
	for _, w := range []queue.Wish{{}, {Copies: -1}, {Copies: 101}, {Copies: 1, After: noon.Add(-time.Hour)}, {Copies: 1, After: noon.AddDate(1, 0, 0)}, {Copies: 1, Soak: &long}, {Copies: 1, Soak: &negative}} {
		if err := w.Check(noon); !errors.Is(err, queue.ErrValue) {
			t.Errorf("%+v: %v", w, err)
		}
	}
	if err := (queue.Wish{Copies: 100, After: noon.Add(time.Hour), Soak: new(time.Duration)}).Check(noon); err != nil {
		t.Error(err)
	}
}

// Whatever is done to a queue, nothing of it is lost, doubled or changed that was not
// meant.
func TestWhateverIsDoneEntriesStayWhole(t *testing.T) {
	for seed := range uint64(300) {
		random := rand.New(rand.NewPCG(seed, 7))
		var q queue.Queue
		var want []string
		for step := range 60 {
			before := slices.Clone(want)
			pick := func() string {
				if len(want) == 0 || random.IntN(8) == 0 {
					return "x"
				}
				return want[random.IntN(len(want))]
			}
			var err error
			switch random.IntN(4) {
			case 0, 1:
				id := fmt.Sprint(step)
				q, err = q.Add(queue.Entry{ID: id, Wish: queue.Wish{Copies: 1}})
				want = append(want, id)
			case 2:
				id := pick()
				q, err = q.Remove(id)
				want = slices.DeleteFunc(want, func(w string) bool { return w == id })
			case 3:
				id, to := pick(), pick()
				if q, err = q.Move(id, to); err == nil && id != to {
					want = slices.DeleteFunc(want, func(w string) bool { return w == id })
					want = slices.Insert(want, slices.Index(want, to), id)
				}
			}
			if err != nil && !errors.Is(err, queue.ErrMissing) {
				t.Fatal(err)
			}
			var got []string
			for _, e := range q {
				got = append(got, e.ID)
			}
			if !slices.Equal(got, want) {
				t.Fatalf("seed %d: %v became %v, want %v", seed, before, got, want)
			}
		}
	}
}
