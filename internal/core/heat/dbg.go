package heat

import "fmt"

func (w *NeedWatch) Debug() string {
	g := w.growth
	return fmt.Sprintf("mean %.3f left %.4f base %.3f noise %.4f step %.3f recent %.3f seen %d since %.0f", w.Need.Mean, w.Need.Left, g.base, g.noise, g.step, g.recent, g.seen, w.gathers.from-w.gathers.begun)
}
