package mqttwire

import (
	"fmt"
	"strings"

	"runcrowd/internal/foreign"
)

// reasons are the names of section 2.4.
var reasons = map[byte]string{
	0x00: "success", 0x10: "no matching subscribers",
	0x80: "unspecified error", 0x81: "malformed packet", 0x82: "protocol error", 0x83: "implementation specific error",
	0x84: "unsupported protocol version", 0x85: "client identifier not valid", 0x86: "bad user name or password",
	0x87: "not authorized", 0x88: "server unavailable", 0x89: "server busy", 0x8a: "banned", 0x8b: "server shutting down",
	0x8c: "bad authentication method", 0x8d: "keep alive timeout", 0x8e: "session taken over by another connection with " +
		"the same client id",
	0x8f: "topic filter invalid", 0x90: "topic name invalid", 0x91: "packet identifier in use",
	0x92: "packet identifier not found",
	0x93: "receive maximum exceeded", 0x94: "topic alias invalid", 0x95: "packet too large", 0x96: "message rate too high",
	0x97: "quota exceeded", 0x98: "administrative action", 0x99: "payload format invalid", 0x9a: "retain not supported",
	0x9b: "QoS not supported", 0x9c: "use another server", 0x9d: "server moved",
	0x9e: "shared subscriptions not supported",
	0x9f: "connection rate exceeded", 0xa0: "maximum connect time", 0xa1: "subscription identifiers not supported",
	0xa2: "wildcard subscriptions not supported",
}

// returnCodes are those of CONNACK in version 3.1.1, section 3.2.2.3.
var returnCodes = [...]string{"success", "unacceptable protocol version", "client identifier rejected",
	"server unavailable",
	"bad user name or password", "not authorized"}

// Reason tells a reason code in words: "not authorized (0x87)".
func Reason(code byte) string { return texts[code] }

// texts are those of all codes: some come with each message.
var texts = func() (list [256]string) {
	for code := range list {
		list[code] = fmt.Sprintf("reason 0x%02X", code)
		if name, known := reasons[byte(code)]; known {
			list[code] = fmt.Sprintf("%s (0x%02X)", name, code)
		}
	}
	return list
}()

// ConnectReason is Reason for a CONNACK of either version.
func ConnectReason(version, code byte) string {
	if version == V311 && int(code) < len(returnCodes) {
		return fmt.Sprintf("%s (%d)", returnCodes[code], code)
	}
	return Reason(code)
}

// Because is Reason with what the server said beside the code, where that adds
// anything to it.
func Because(reason, said string) string {
	bare := func(s string) string { return strings.ToLower(strings.ReplaceAll(s, " ", "")) }
	if said == "" || strings.Contains(bare(reason), bare(said)) {
		return reason
	}
	return reason + foreign.Said(said)
}
