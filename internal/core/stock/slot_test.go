package stock_test

import (
	"errors"
	"math"
	"strings"
	"testing"

	"diathermon/internal/core/stock"
)

func TestASlotHoldsWhatCanBe(t *testing.T) {
	good := stock.Slot{Loaded: true, Material: " Sky PLA ", Colour: "#AABBCC", Diameter: 1.75, Coldest: 190, Hottest: 230}
	kept, err := good.Check(1, 285)
	if err != nil || kept.Material != "Sky PLA" || kept.Colour != "#aabbcc" {
		t.Errorf("%+v, %v", kept, err)
	}
	if empty, err := (stock.Slot{Material: "left over", Number: 0}).Check(1, 285); err != nil || empty != (stock.Slot{}) {
		t.Errorf("an empty one is %+v, %v", empty, err)
	}
	for want, change := range map[string]func(*stock.Slot){
		"slot 1":  func(s *stock.Slot) { s.Number = 1 },
		"slot -1": func(s *stock.Slot) { s.Number = -1 },
		"a name":  func(s *stock.Slot) { s.Material = " " },
		"name of": func(s *stock.Slot) { s.Material = "P\nLA" },
		"#rrggbb": func(s *stock.Slot) { s.Colour = "red" },
		"17.5 mm": func(s *stock.Slot) { s.Diameter = 17.5 },
		"NaN mm":  func(s *stock.Slot) { s.Diameter = math.NaN() },
		"NaN °C":  func(s *stock.Slot) { s.Coldest = math.NaN() },
		"to 400":  func(s *stock.Slot) { s.Hottest = 400 },
		"240 to":  func(s *stock.Slot) { s.Coldest = 240 },
	} {
		s := good
		change(&s)
		if _, err := s.Check(1, 285); !errors.Is(err, stock.ErrSlot) || !strings.Contains(err.Error(), want) {
			t.Errorf("%+v: %v, want %q", s, err, want)
		}
	}
}

func TestMaterialsHaveFamilies(t *testing.T) {
	for material, want := range map[string]string{
		"PLA": "PLA", "Basic pla+ silk": "PLA", "PLA-CF": "PLA", "PLActive": "PLA", "PETG": "PETG", "PET": "PETG", "petg_matt": "PETG", "TPU95A": "TPU", "Flexible": "TPU", "PA12-CF": "PA", "Nylon": "PA",
		"PC blend": "PC", "Special": "", "Palette": "", "": "", "spare": "",
	} {
		if got := stock.Family(material); got != want {
			t.Errorf("%q is of %q, want %q", material, got, want)
		}
	}
}
