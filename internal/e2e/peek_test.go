package e2e

import (
	"context"
	"os"
)

func (b *bench) shot(page context.Context, name string) {
	if dir := os.Getenv("PEEK"); dir != "" {
		b.shoot(page, dir+"/"+name+".png")
	}
}
