package wire_test
import "testing"
func TestZZ(t *testing.T){ s:=newSim(*oneSeed); t.Logf("%s clean %+v early %v", s.board.Words(), s.clean, s.board) }
