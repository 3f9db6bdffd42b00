package ops

import (
	"diathermon/internal/api"
	"diathermon/internal/core/access"
)

// The operations of how the printer is described and reached.
var (
	GetPrinter = get[Nothing, api.Described]("get-printer", "/v1/printer", access.Read,
		"How the printer is described, and who decides what of it")
	DescribePrinter = patch[With[api.DescribePrinter], api.Described]("describe-printer", "/v1/printer", access.Keep,
		"Say more of the printer; it holds from the next start of the host on, or once it is taken up", 409, 422)
	TakeUpPrinter = post[Nothing, Nothing]("take-up-printer", "/v1/printer/take-up", access.Keep,
		"Let the host begin anew as the printer is described now; not while anything is under way or "+
			"heated. It is away for some seconds",
		202, 409)
	TryConnection = get[Nothing, api.Trial]("try-connection", "/v1/trial", access.Send,
		"What a program that was just connected wants to know: whether its token is good and the printer ready")
	GetAddresses = get[Nothing, api.Addresses]("get-addresses", "/v1/addresses", access.Read,
		"Where other devices reach the host, and by which doors files come")
	GetAddressCode = get[Nothing, Bytes]("get-address-code", "/v1/addresses/code", access.Read,
		"An address of the host as a QR code, for a phone's camera", 404)
	GetCertificate = get[Nothing, Bytes]("get-certificate", "/v1/addresses/certificate", access.Read,
		"The host's certificate, for programs and devices that are to trust it", 404)
)
