package ops

import (
	"diathermon/internal/api"
	"diathermon/internal/core/access"
)

// The operations of stored files.
var (
	GetFileBeginning = get[Name, api.Beginning]("get-file-beginning", "/v1/shelf/{name}/beginning", access.Send,
		"What is here of a file that this token has begun to send; go on from there with Content-Range", 400, 404)
	RehearseFile = post[Name, api.Rehearsal]("rehearse-file", "/v1/shelf/{name}/rehearsal", access.Send,
		"Try a file on the stand-in printer, anew if it was tried before; the printer itself is left alone", 202, 404)
	GetRehearsal = get[Name, api.Rehearsal]("get-rehearsal", "/v1/shelf/{name}/rehearsal", access.Read,
		"How far the rehearsal of a file has come, and what came of it", 404).
		orNone("it was not rehearsed")
	StopRehearsal = remove[Name, Nothing]("stop-rehearsal", "/v1/shelf/{name}/rehearsal", access.Send,
		"End the rehearsal of a file; one that is over stays as it is", 404)
	ListFiles = get[Nothing, api.Shelf]("list-files", "/v1/shelf", access.Read,
		"List the files on the shelf")
	GetFile = get[FileFrom, api.File]("get-file", "/v1/shelf/{name}", access.Read,
		"What a file's moves amount to, and what stands between it and a start", 404)
	ListFileLayers = get[Name, api.FileLayers]("list-file-layers", "/v1/shelf/{name}/by-layer", access.Read,
		"Time and filament of a file by layer", 404)
	ChangeFile = patch[NameWith[api.ChangeFile], api.File]("change-file", "/v1/shelf/{name}", access.Send,
		"Give a file another name, or tags; not another name while it runs", 400, 404, 409)
	RemoveFile = remove[Name, Nothing]("remove-file", "/v1/shelf/{name}", access.Keep,
		"Take a file off the shelf; not while it runs", 404, 409)
	PutFile = put[Name, Bytes]("put-file", "/v1/shelf/{name}", access.Send,
		"Store a file, sent as raw bytes; with Content-Range in pieces, of which each follows on the one before",
		400, 409, 413, 422, 507)
	PostFile = post[Nothing, Bytes]("post-file", "/v1/shelf", access.Send,
		"Store a file, sent as a form; the part with a file name is taken, whatever it is called; fields "+
			"before it may say replace and then",
		400, 409, 413, 422, 507)
	GetFileContent = get[Name, Bytes]("get-file-content", "/v1/shelf/{name}/content", access.Read,
		"A file's bytes, with Range and ETag", 404)
	GetFilePicture = get[Name, Bytes]("get-file-picture", "/v1/shelf/{name}/picture", access.Read,
		"A picture of what a file lays down, drawn from its moves, with its printer's name and colour, and ETag", 400, 404)
	GetFileLayers = get[Name, Bytes]("get-file-layers", "/v1/shelf/{name}/layers", access.Read,
		"Every stroke of a file by layer, in the compact form of docs/layers.md, with Range and ETag", 404)
)
