// Package mesh is the room for the bed mesh: reading it from a firmware's
// report, its height between the points, and its map.
package mesh
