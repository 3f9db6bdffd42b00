package shelf_test

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"testing/iotest"
	"time"

	"diathermon/internal/core/motion"
	"diathermon/internal/core/toolpath"
	"diathermon/internal/digest"
	"diathermon/internal/shelf"
)

// memory is an index in memory.
type memory struct {
	mu     sync.Mutex
	files  map[string]toolpath.File
	refuse error
}

func (m *memory) PutFile(_ context.Context, f toolpath.File) error {
	m.mu.Lock()
	defer m.mu.Unlock()
	if m.refuse != nil {
		return m.refuse
	}
	m.files[f.Name] = f
	return nil
}

func (m *memory) File(_ context.Context, name string) (toolpath.File, error) {
	m.mu.Lock()
	defer m.mu.Unlock()
	f, ok := m.files[name]
	if !ok {
		return f, fs.ErrNotExist
	}
	return f, nil
}

func (m *memory) Files(context.Context) ([]toolpath.File, error) {
	m.mu.Lock()
	defer m.mu.Unlock()
	var out []toolpath.File
	for _, f := range m.files {
		out = append(out, f)
	}
	return out, nil
}

func (m *memory) DeleteFile(_ context.Context, name string) error {
	m.mu.Lock()
	defer m.mu.Unlock()
	delete(m.files, name)
	return nil
}

const part = "G28\nG1 X10 F3000\nG1 X20 E1\n"

// plainly is how the tests' files are read.
var plainly = toolpath.Options{Limits: motion.Ordinary}

func open(t *testing.T) (*shelf.Shelf, *memory, string) {
	t.Helper()
	m, dir := &memory{files: map[string]toolpath.File{}}, filepath.Join(t.TempDir(), "shelf")
	s, err := shelf.Open(t.Context(), dir, m, plainly)
	if err != nil {
		t.Fatal(err)
	}
	return s, m, dir
}

func arrival(name, body string) shelf.Arrival {
	return shelf.Arrival{Name: name, Body: strings.NewReader(body), Size: int64(len(body))}
}

// reader examines a file as nobody waits for it, and tells of its strokes and how far it is.
func reader(stroke func(*toolpath.Stroke), progress func(int64)) shelf.Reader {
	return func(ctx context.Context, in *os.File, known string, how toolpath.Options) (toolpath.File, error) {
		how.Stroke = stroke
		return shelf.Examine(ctx, in, known, how, progress)
	}
}

func TestNames(t *testing.T) {
	for _, good := range []string{"a", "Dust cap (32 mm).gcode", "Rändelrad für Ökular.g", "目镜盖.gcode", strings.Repeat("x", 180), strings.Repeat("ö", 120), "no-ending", "❤️ knob.gcode"} {
		if got, err := shelf.Name(good); err != nil || got != good {
			t.Errorf("%q: %q, %v", good, got, err)
		}
	}
	if got, err := shelf.Name("Ra\u0308ndel.g"); err != nil || got != "R\u00e4ndel.g" {
		t.Errorf("a decomposed name is composed: %q, %v", got, err)
	}
	for _, bad := range []string{"", ".", "..", ".hidden", "a/b", "../../etc/passwd", `a\b`, "a\nb", "a\x00b", "a\x7f", " a", "a ", "a\u202egcode", "\u200b", "cap\u200d.gcode", "\ufeffcap.gcode", "cap\u2060.gcode", "\u2800", "a\u2028b", "\u3164", "\xff\xfe", strings.Repeat("x", 300), strings.Repeat("盖", 100)} {
		if got, err := shelf.Name(bad); !errors.Is(err, shelf.ErrName) {
			t.Errorf("%q was taken as %q, %v", bad, got, err)
		}
	}
}

func TestStoringHasThreeOutcomes(t *testing.T) {
	s, _, dir := open(t)
	for i, c := range []struct {
		body    string
		replace bool
		want    shelf.Outcome
		err     error
	}{
		{part, false, shelf.Created, nil},
		{part, false, shelf.Same, nil},
		{part + "M107\n", false, "", shelf.ErrTaken},
		{part + "M107\n", true, shelf.Replaced, nil},
		{part, false, "", shelf.ErrTaken},
	} {
		a := arrival("cap.gcode", c.body)
		a.Replace = c.replace
		if _, got, err := s.Store(t.Context(), a); got != c.want || !errors.Is(err, c.err) {
			t.Errorf("store %d: %v, %v, want %v, %v", i, got, err, c.want, c.err)
		}
	}
	if b, err := os.ReadFile(filepath.Join(dir, "cap.gcode")); err != nil || string(b) != part+"M107\n" {
		t.Errorf("on disk: %q, %v", b, err)
	}
}

func TestAFileThatDoesNotArriveWholeLeavesNothing(t *testing.T) {
	s, m, dir := open(t)
	wrong := sha256.Sum256([]byte("something else"))
	right := sha256.Sum256([]byte(part))
	for name, c := range map[string]struct {
		a    shelf.Arrival
		want error
	}{
		"cut short":    {shelf.Arrival{Body: strings.NewReader(part), Size: 1000}, shelf.ErrShort},
		"one too few":  {shelf.Arrival{Body: strings.NewReader(part), Size: int64(len(part)) + 1}, shelf.ErrShort},
		"one too many": {shelf.Arrival{Body: strings.NewReader(part), Size: int64(len(part)) - 1}, shelf.ErrShort},
		"cable pulled": {shelf.Arrival{Body: io.MultiReader(strings.NewReader(part), iotest.ErrReader(io.ErrUnexpectedEOF)), Size: -1}, shelf.ErrShort},
		"wrong digest": {shelf.Arrival{Body: strings.NewReader(part), Size: -1, SHA256: wrong[:]}, shelf.ErrShort},
		"too large":    {shelf.Arrival{Body: strings.NewReader(part), Size: 1 << 40}, shelf.ErrLarge},
		"empty":        {shelf.Arrival{Body: strings.NewReader(""), Size: 0}, shelf.ErrContent},
		"a model":      {shelf.Arrival{Body: strings.NewReader("solid x\n"), Size: -1}, shelf.ErrContent},
		"prose":        {shelf.Arrival{Body: strings.NewReader(strings.Repeat("Dear diary.\n", 50)), Size: -1}, shelf.ErrContent},
	} {
		c.a.Name = "part.gcode"
		if _, _, err := s.Store(t.Context(), c.a); !errors.Is(err, c.want) {
			t.Errorf("%s: %v, want %v", name, err, c.want)
		}
	}
	for _, folder := range []string{dir, filepath.Join(dir, ".staging")} {
		left, _ := os.ReadDir(folder)
		if len(left) > 1 || len(left) == 1 && left[0].Name() != ".staging" || len(m.files) != 0 {
			t.Errorf("left behind: %v, %v", left, m.files)
		}
	}
	if _, _, err := s.Store(t.Context(), shelf.Arrival{Name: "part.gcode", Body: strings.NewReader(part), Size: -1, SHA256: right[:]}); err != nil {
		t.Errorf("with the right digest: %v", err)
	}
}

func TestAFileInUseStays(t *testing.T) {
	s, _, _ := open(t)
	s.Store(t.Context(), arrival("a.gcode", part))
	s.Guard(func(name string) bool { return name == "a.gcode" })
	other := arrival("a.gcode", part+"M107\n")
	other.Replace = true
	if _, _, err := s.Store(t.Context(), other); !errors.Is(err, shelf.ErrTaken) {
		t.Errorf("replacing it: %v", err)
	}
	if err := s.Remove(t.Context(), "a.gcode"); !errors.Is(err, shelf.ErrTaken) {
		t.Errorf("removing it: %v", err)
	}
	s.Guard(func(string) bool { return false })
	if err := s.Remove(t.Context(), "a.gcode"); err != nil {
		t.Error(err)
	}
	if _, err := s.File(t.Context(), "a.gcode"); !errors.Is(err, shelf.ErrMissing) {
		t.Errorf("it is still there: %v", err)
	}
	if _, err := s.Read("a.gcode"); !errors.Is(err, shelf.ErrMissing) {
		t.Errorf("it can still be read: %v", err)
	}
}

func TestManyArrivalsOfOneName(t *testing.T) {
	s, _, dir := open(t)
	var created sync.Map
	var wg sync.WaitGroup
	for i := range 20 {
		wg.Go(func() {
			if _, outcome, err := s.Store(context.Background(), arrival("race.gcode", fmt.Sprintf("%sM117 %d\n", part, i))); err == nil && outcome == shelf.Created {
				created.Store(i, true)
			}
		})
	}
	wg.Wait()
	n := 0
	created.Range(func(any, any) bool { n++; return true })
	if entries, _ := os.ReadDir(dir); n != 1 || len(entries) != 2 {
		t.Errorf("%d of them were created and %d files are there", n, len(entries))
	}
}

func TestTheIndexIsBroughtUpToDate(t *testing.T) {
	s, m, dir := open(t)
	s.Store(t.Context(), arrival("kept.gcode", part))
	s.Store(t.Context(), arrival("gone.gcode", part))
	os.Remove(filepath.Join(dir, "gone.gcode"))
	os.WriteFile(filepath.Join(dir, "by-hand.gcode"), []byte(part), 0o644)
	os.WriteFile(filepath.Join(dir, "notes.txt"), []byte("solid x\n"), 0o644)
	os.WriteFile(filepath.Join(dir, ".half-arrived"), []byte("G28"), 0o644)
	if _, err := shelf.Open(t.Context(), dir, m, plainly); err != nil {
		t.Fatal(err)
	}
	if len(m.files) != 2 || m.files["by-hand.gcode"].Commands != 3 || m.files["kept.gcode"].Size != int64(len(part)) {
		t.Errorf("the index holds %v", m.files)
	}
	if _, err := os.Stat(filepath.Join(dir, ".half-arrived")); !errors.Is(err, fs.ErrNotExist) {
		t.Error("what an interrupted arrival left is still there")
	}
}

func TestAFilePastTheLimitIsRefusedWholeWhateverWasAnnounced(t *testing.T) {
	s, m, dir := open(t)
	s.Limit(int64(len(part)))
	for what, a := range map[string]shelf.Arrival{
		"announced": arrival("a.gcode", part+"\n"), "not announced": {Name: "b.gcode", Body: strings.NewReader(part + "\n"), Size: -1}, "much more": {Name: "c.gcode", Body: strings.NewReader(strings.Repeat(part, 1000)), Size: -1},
	} {
		if _, _, err := s.Store(t.Context(), a); !errors.Is(err, shelf.ErrLarge) {
			t.Errorf("%s: %v", what, err)
		}
	}
	if entries, _ := os.ReadDir(dir); len(m.files) != 0 || len(entries) != 1 { // .staging
		t.Errorf("%d files are known, %d lie there", len(m.files), len(entries))
	}
	if _, outcome, err := s.Store(t.Context(), shelf.Arrival{Name: "d.gcode", Body: strings.NewReader(part), Size: -1}); err != nil || outcome != shelf.Created {
		t.Errorf("just as large as it may be: %v, %v", outcome, err)
	}
}

func TestAFileThatIsReplacedByHandWhileNobodyLooksIsReadAnew(t *testing.T) {
	s, m, dir := open(t)
	f, _, _ := s.Store(t.Context(), arrival("cap.gcode", part))
	os.WriteFile(filepath.Join(dir, "cap.gcode"), []byte(part+"G1 X30 E2\n"), 0o600)
	os.WriteFile(filepath.Join(dir, "by-hand.gcode"), []byte(part), 0o600)
	if _, err := shelf.Open(t.Context(), dir, m, plainly); err != nil {
		t.Fatal(err)
	}
	if now := m.files["cap.gcode"]; now.Digest == f.Digest || now.Commands != 4 {
		t.Errorf("%+v", now)
	}
	if _, there := m.files["by-hand.gcode"]; !there {
		t.Error("one that was put there by hand is not known")
	}
	os.Remove(filepath.Join(dir, "cap.gcode"))
	if shelf.Open(t.Context(), dir, m, plainly); len(m.files) != 1 {
		t.Errorf("one that was taken away is known still: %v", m.files)
	}
}

func TestAFileThatWasCutOffGoesOnFromThere(t *testing.T) {
	s, m, dir := open(t)
	body := rising(3 << 20)
	size := int64(len(body))
	cut := func(from, to int) io.Reader {
		return io.MultiReader(strings.NewReader(body[from:to]), iotest.ErrReader(io.ErrUnexpectedEOF))
	}
	store := func(a shelf.Arrival) (toolpath.File, error) {
		a.Name, a.Size, a.Sender, a.Whose = "tall.gcode", size, "a program", "slicer"
		f, _, err := s.Store(t.Context(), a)
		return f, err
	}
	if _, err := s.Begun(t.Context(), "slicer", "tall.gcode"); !errors.Is(err, shelf.ErrMissing) {
		t.Errorf("before anything came: %v", err)
	}
	if _, err := store(shelf.Arrival{Body: cut(0, 1_000_000)}); !errors.Is(err, shelf.ErrShort) || len(m.files) != 0 {
		t.Fatalf("cut off: %v", err)
	}
	if s, _ = shelf.Open(t.Context(), dir, m, plainly); s == nil { // the host was started again
		t.Fatal()
	}
	b, err := s.Begun(t.Context(), "slicer", "tall.gcode")
	if sum, _, _ := digest.Again(strings.NewReader(body[:1_000_000]), ""); err != nil || b.Bytes != 1_000_000 || b.Digest != sum {
		t.Fatalf("what is here: %+v, %v", b, err)
	}
	if _, err := s.Begun(t.Context(), "another", "tall.gcode"); !errors.Is(err, shelf.ErrMissing) {
		t.Errorf("of another sender: %v", err)
	}
	if _, err := store(shelf.Arrival{Body: strings.NewReader(body[1_000_001:]), Offset: 1_000_001}); !errors.Is(err, shelf.ErrGap) {
		t.Errorf("with a gap: %v", err)
	}
	if f, err := store(shelf.Arrival{Body: strings.NewReader(body[900_000:2_000_000]), Offset: 900_000, Piece: true}); !errors.Is(err, shelf.ErrMore) || f.Size != 2_000_000 {
		t.Errorf("a piece that overlaps: %+v, %v", f, err)
	}
	if _, err := store(shelf.Arrival{Body: cut(2_000_000, 2_500_000), Offset: 2_000_000}); !errors.Is(err, shelf.ErrShort) {
		t.Errorf("cut off again: %v", err)
	}
	f, err := store(shelf.Arrival{Body: strings.NewReader(body[2_500_000:]), Offset: 2_500_000})
	if whole, _ := os.ReadFile(filepath.Join(dir, "tall.gcode")); err != nil || string(whole) != body || !f.Surveyed() || f.Layers == 0 {
		t.Errorf("the rest: %v; %d bytes lie there", err, len(whole))
	}
	if sum, _, _ := digest.Again(strings.NewReader(body), ""); f.Digest != sum {
		t.Errorf("its digest is %s", f.Digest)
	}
	if _, err := store(shelf.Arrival{Body: strings.NewReader(body[9:]), Offset: 9}); !errors.Is(err, shelf.ErrGap) {
		t.Errorf("what was whole is a part still: %v", err)
	}
	for i := range 40 { // parts are not kept without bound
		s.Store(t.Context(), shelf.Arrival{Name: fmt.Sprintf("%d.gcode", i), Body: cut(0, 100), Size: size})
	}
	if parts, _ := filepath.Glob(filepath.Join(dir, ".staging", "*")); len(parts) > 16 {
		t.Errorf("%d parts are kept", len(parts))
	}
}

func TestAFileOfAnOlderVersionKeepsItsDigest(t *testing.T) {
	s, m, dir := open(t)
	f, _, _ := s.Store(t.Context(), arrival("cap.gcode", part))
	sum := sha256.Sum256([]byte(part))
	f.Digest = hex.EncodeToString(sum[:])
	m.files["cap.gcode"] = f
	if again, outcome, err := s.Store(t.Context(), arrival("cap.gcode", part)); err != nil || outcome != shelf.Same || again.Digest != f.Digest {
		t.Errorf("sent again: %s, %s, %v", outcome, again.Digest, err)
	}
	in, err := s.Open(t.Context(), f)
	if err != nil {
		t.Fatalf("opened: %v", err)
	}
	in.Close()
	if now, err := s.Survey(t.Context(), "cap.gcode", reader(nil, nil)); err != nil || now.Digest != f.Digest || !now.Stored.Equal(f.Stored) {
		t.Errorf("surveyed: %s, stored %v, %v", now.Digest, now.Stored, err)
	}
	os.WriteFile(filepath.Join(dir, "cap.gcode"), []byte(strings.Replace(part, "X", "Y", 1)), 0o600)
	if _, err := s.Open(t.Context(), f); !errors.Is(err, shelf.ErrChanged) {
		t.Errorf("opened with as many other bytes: %v", err)
	}
}

func TestAFileThatIsPrintedIsNeitherReplacedNorRemoved(t *testing.T) {
	s, _, _ := open(t)
	s.Store(t.Context(), arrival("cap.gcode", part))
	s.Guard(func(name string) bool { return name == "cap.gcode" })
	a := arrival("cap.gcode", part+"G1 X30\n")
	a.Replace = true
	if _, _, err := s.Store(t.Context(), a); !errors.Is(err, shelf.ErrTaken) {
		t.Errorf("replaced: %v", err)
	}
	if err := s.Remove(t.Context(), "cap.gcode"); !errors.Is(err, shelf.ErrTaken) {
		t.Errorf("removed: %v", err)
	}
}

// rising is a file of many layers and about that many bytes.
func rising(bytes int) string {
	var b strings.Builder
	b.WriteString("G28\nM104 S200\nM83\nG90\n")
	for z := 1; b.Len() < bytes; z++ {
		fmt.Fprintf(&b, "G1 Z%.2f F600\n", float64(z)/1000)
		for x := range 200 {
			fmt.Fprintf(&b, "G1 X%d Y%d E.05 F3000\n", 50+x%2*50, 50+x)
		}
	}
	b.WriteString("M104 S0\n")
	return b.String()
}

func TestALargeFileIsSafeBeforeItIsKnownWhatItIs(t *testing.T) {
	s, m, _ := open(t)
	body := rising(5 << 20)
	f, outcome, err := s.Store(t.Context(), arrival("tall.gcode", body))
	if err != nil || outcome != shelf.Created || f.Surveyed() || f.Size != int64(len(body)) || m.files["tall.gcode"].Digest != f.Digest {
		t.Fatalf("stored: %+v, %s, %v", f, outcome, err)
	}
	whole, _, err := s.Store(t.Context(), shelf.Arrival{Name: "whole.gcode", Body: strings.NewReader(body), Size: f.Size, Whole: true})
	if err != nil || !whole.Surveyed() || whole.Layers == 0 {
		t.Errorf("one that is to be started at once: %+v, %v", whole, err)
	}
	var strokes, last int64
	known, err := s.Survey(t.Context(), "tall.gcode", reader(func(*toolpath.Stroke) { strokes++ }, func(n int64) { last = n }))
	if err != nil || known.Layers != whole.Layers || known.Duration != whole.Duration || !known.Stored.Equal(f.Stored) || strokes == 0 || last != f.Size {
		t.Errorf("surveyed: %+v, %d strokes, %d bytes, %v", known, strokes, last, err)
	}
	ctx, stop := context.WithCancel(t.Context())
	m.files["tall.gcode"] = f
	if _, err := s.Survey(ctx, "tall.gcode", reader(nil, func(int64) { stop() })); !errors.Is(err, context.Canceled) || m.files["tall.gcode"].Version != 0 {
		t.Errorf("broken off: %v, %+v", err, m.files["tall.gcode"].Trouble)
	}
}

func TestWhatIsWrongFarBehindTheBeginningIsKeptAndSaid(t *testing.T) {
	s, m, _ := open(t)
	body := rising(5<<20) + "G1 X1e400\nG1 X99999999\n"
	if f, _, err := s.Store(t.Context(), arrival("far.gcode", body)); err != nil || f.Surveyed() {
		t.Fatalf("stored: %+v, %v", f, err)
	}
	f, err := s.File(t.Context(), "far.gcode")
	if err != nil || !f.Surveyed() || !strings.Contains(f.Trouble, "farther than any machine") || m.files["far.gcode"].Trouble == "" {
		t.Errorf("asked for: %+v, %v", f, err)
	}
	long := rising(3<<20) + "G1 X" + strings.Repeat("0", 2<<20) + "\n" + rising(3<<20)
	for what, body := range map[string]string{"a number, and more behind it": rising(5<<20) + "G1 X99999999\n" + rising(3<<20), "a line of 2 MiB, and more behind it": long} {
		if f, _, err := s.Store(t.Context(), arrival("far.gcode", body)); err == nil {
			t.Fatalf("%s: %+v", what, f)
		}
		in := arrival("far.gcode", body)
		in.Replace = true
		if _, _, err := s.Store(t.Context(), in); err != nil {
			t.Fatal(err)
		}
		if f, err := s.Survey(t.Context(), "far.gcode", reader(nil, nil)); err != nil || f.Trouble == "" || m.files["far.gcode"].Trouble == "" {
			t.Errorf("%s: surveyed: %+v, %v", what, f.Trouble, err)
		}
	}
	for what, body := range map[string]string{"a model": "solid part\n" + strings.Repeat("facet normal 0 0 1\n", 400_000), "text": strings.Repeat("the moon is up\n", 400_000)} {
		if _, _, err := s.Store(t.Context(), arrival("no.gcode", body)); !errors.Is(err, shelf.ErrContent) {
			t.Errorf("%s: %v", what, err)
		}
	}
}

func TestAFileThatIsReplacedWhileItIsSurveyedStaysReplaced(t *testing.T) {
	s, m, _ := open(t)
	s.Store(t.Context(), arrival("cap.gcode", part))
	replaced := false
	_, err := s.Survey(t.Context(), "cap.gcode", reader(nil, func(int64) {
		if !replaced {
			replaced = true
			a := arrival("cap.gcode", other)
			a.Replace = true
			if _, _, err := s.Store(t.Context(), a); err != nil {
				t.Error(err)
			}
		}
	}))
	if !errors.Is(err, shelf.ErrChanged) {
		t.Errorf("surveying what was replaced: %v", err)
	}
	f := m.files["cap.gcode"]
	if f.Size != int64(len(other)) || !f.Surveyed() {
		t.Errorf("the index has %+v", f)
	}
	in, err := s.Open(t.Context(), f)
	if err != nil {
		t.Fatalf("what it has is not what is on disk: %v", err)
	}
	in.Close()
}

func TestAFileThatIsSurveyedAsItArrivesIsNotTakenForGone(t *testing.T) {
	s, m, _ := open(t)
	surveyed := make(chan error, 1)
	undo := shelf.Between(func(step string) {
		if step != "indexed" { // the index has it, and the disk does not yet
			return
		}
		go func() {
			_, err := s.Survey(context.Background(), "cap.gcode", reader(nil, nil))
			surveyed <- err
		}()
		select { // it may not be done before the file is in its place
		case err := <-surveyed:
			surveyed <- err
		case <-time.After(200 * time.Millisecond):
		}
	})
	defer undo()
	if _, _, err := s.Store(t.Context(), arrival("cap.gcode", part)); err != nil {
		t.Fatal(err)
	}
	if err := <-surveyed; err != nil && !errors.Is(err, shelf.ErrChanged) {
		t.Errorf("surveyed: %v", err)
	}
	if _, err := s.File(t.Context(), "cap.gcode"); err != nil || len(m.files) != 1 {
		t.Errorf("it is gone: %v", err)
	}
}

func TestAFileThatIsWrittenByHandIsNotTakenAwayByASurvey(t *testing.T) {
	s, m, dir := open(t)
	s.Store(t.Context(), arrival("cap.gcode", part))
	path := filepath.Join(dir, "cap.gcode")
	for what, so := range map[string]string{"emptied, to be written": "", "half a letter": "Dear moon,\nDear moon,\n"} {
		if err := os.WriteFile(path, []byte(so), 0o600); err != nil {
			t.Fatal(err)
		}
		if _, err := s.Survey(t.Context(), "cap.gcode", reader(nil, nil)); !errors.Is(err, shelf.ErrChanged) || len(m.files) != 1 {
			t.Errorf("%s: %v, the index has %d files", what, err, len(m.files))
		}
	}
	if err := os.WriteFile(path, []byte(part), 0o600); err != nil {
		t.Fatal(err)
	}
	_, err := s.Survey(t.Context(), "cap.gcode", reader(nil, func(int64) { os.WriteFile(path, []byte(other), 0o600) }))
	if !errors.Is(err, shelf.ErrChanged) {
		t.Errorf("written while it was read: %v", err)
	}
	if f, err := s.Survey(t.Context(), "cap.gcode", reader(nil, nil)); err != nil || f.Size != int64(len(other)) || m.files["cap.gcode"].Digest != f.Digest {
		t.Errorf("when it is whole: %+v, %v", f, err)
	}
}

func TestOneSendersBeginningsTakeNobodysAway(t *testing.T) {
	s, _, _ := open(t)
	begin := func(whose string, n int) {
		body := part[:10]
		_, _, err := s.Store(t.Context(), shelf.Arrival{Name: fmt.Sprintf("%d.gcode", n), Body: strings.NewReader(body), Size: int64(len(part)), Piece: true, Whose: whose, Sender: "slicer"})
		if !errors.Is(err, shelf.ErrMore) {
			t.Fatal(err)
		}
	}
	begin("one", 0)
	for n := range 40 {
		begin("another", n)
	}
	for n := range 40 { // and many others, of whom each has a few
		begin(fmt.Sprint("other ", n%10), n)
	}
	if _, err := s.Begun(t.Context(), "one", "0.gcode"); err != nil {
		t.Errorf("another of the same name has taken it away: %v", err)
	}
	there := 0
	for n := range 40 {
		if _, err := s.Begun(t.Context(), "another", fmt.Sprintf("%d.gcode", n)); err == nil {
			there++
		}
	}
	if there > 5 {
		t.Errorf("of one sender %d are kept", there)
	}
}

func TestTheShelfHoldsSoManyFiles(t *testing.T) {
	s, m, _ := open(t)
	if _, _, err := s.Store(t.Context(), arrival("first.gcode", part)); err != nil {
		t.Fatal(err)
	}
	for i := 1; i < 4000; i++ {
		name := fmt.Sprintf("%d.gcode", i)
		m.files[name] = toolpath.File{Name: name, Digest: fmt.Sprint(i)}
	}
	if _, _, err := s.Store(t.Context(), arrival("one-more.gcode", part)); !errors.Is(err, shelf.ErrCrowded) {
		t.Errorf("one more: %v", err)
	}
	other := arrival("first.gcode", part+"G1 X30\n")
	other.Replace = true
	if _, _, err := s.Store(t.Context(), other); err != nil {
		t.Errorf("one in another's place: %v", err)
	}
}
