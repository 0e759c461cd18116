package file

// The keys of each mapping of the crowd file. The reader knows no others, and the
// JSON Schema is made from the same lists.
var (
	rootKeys   = []string{"crowd", "seed", "links", "kinds", "devices", "enroll", "plan", "mark", "witnesses", "require"}
	planKeys   = []string{"join", "for", "rounds", "settle"}
	roundsKeys = []string{"count", "every"}
	linkKeys   = []string{"mqtt", "http", "version", "client_id", "username", "password", "keep_alive", "clean_start", "session_expiry", "in_flight",
		"headers", "timeout", "connect_timeout", "back_off", "backlog", "connections", "retries", "retry_key", "tls",
		"access_token", "path", "topic_aliases", "redirects"}
	accessKeys        = []string{"jwt", "text", "oauth", "valid", "renew"}
	jwtKeys           = []string{"algorithm", "key", "secret", "header", "claims"}
	oauthKeys         = []string{"url", "client_id", "client_secret", "scope", "params", "credentials_in"}
	enrollKeys        = []string{"request", "requests", "keep", "pace", "list", "withdraw", "link"}
	requestKeys       = []string{"method", "url", "headers", "body", "ok_status"}
	enrollRequestKeys = append([]string{"keep"}, requestKeys...)
	listKeys          = []string{"get", "headers", "names", "next"}
	tlsKeys           = []string{"ca", "cert", "key", "server_name", "alpn", "min_version", "verify"}
	kindKeys          = []string{"link", "tags", "properties", "readings", "mark", "will", "commands"}
	commandKeys       = []string{"topic", "qos", "path", "every", "rows", "match", "do", "answer", "request", "answer_from"}
	answerFromKeys    = []string{"get", "headers", "rows"}
	doKeys            = []string{"every", "set", "send"}
	answerKeys        = []string{"topic", "qos", "path", "method", "headers", "body", "after", "wrong", "never"}
	wrongKeys         = []string{"chance", "body"}
	willKeys          = []string{"topic", "body", "qos", "retain", "delay", "content_type"}
	groupKeys         = []string{"kind", "count", "first", "name", "roster", "secrets", "properties", "tags", "link", "settings", "readings"}
	changeKeys        = []string{"who", "properties", "tags", "link", "settings", "readings"}
	propertyKeys      = append([]string{"weights", "round", "min", "max"}, sources...)
	readingKeys       = []string{"every", "jitter", "turns", "batch", "topic", "qos", "retain", "path", "method", "ok_status", "headers", "payload", "gzip", "fields",
		"expires", "user_properties"}
	finishKeys  = []string{"noise", "round", "digits", "min", "max", "resolution", "unit", "convert", "tolerance", "stuck", "spike", "drop"}
	stuckKeys   = []string{"chance", "for"}
	spikeKeys   = []string{"chance", "for", "by"}
	dropKeys    = []string{"chance", "for", "as"}
	slotKeys    = []string{"field", "part", "value", "as", "width", "scale", "offset", "order", "bits"}
	witnessKeys = []string{"proves", "who", "subscribe", "link", "qos", "topic", "get", "headers", "timeout",
		"rows", "time", "mark", "device", "reading", "values", "body", "next", "wait", "linger"}
)
