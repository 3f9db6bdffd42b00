package api

// Pages are the console's areas, as paths. What is below one is the console's own.
var Pages = []string{"/bench", "/shelf", "/heat", "/motion", "/wire", "/setup"}
