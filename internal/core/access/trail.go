package access

// The kinds of entries of the audit trail.
const (
	TrailSignedIn       = "signed in"
	TrailSignInFailed   = "sign-in failed"
	TrailSignedOut      = "signed out"
	TrailSessionEnded   = "session ended"
	TrailAccountCreated = "account created"
	TrailAccountChanged = "account changed"
	TrailAccountRemoved = "account removed"
	TrailPersonCreated  = "person created"
	TrailPersonChanged  = "person changed"
	TrailPersonRemoved  = "person removed"
	TrailPassword       = "password changed"
	TrailKeyCreated     = "key created"
	TrailKeyChanged     = "key changed"
	TrailKeyReplaced    = "key replaced"
	TrailKeyRemoved     = "key removed"
	TrailKeyTested      = "key tested"
	TrailGrantCreated   = "grant created"
	TrailGrantChanged   = "grant changed"
	TrailGrantRemoved   = "grant removed"
	TrailSetting        = "setting changed"
	TrailMasterKey      = "master key rotated"
	TrailRefused        = "refused"
	TrailSignatureWrong = "signature wrong"
	TrailChecked        = "settings checked"
)

// TrailKinds lists all kinds.
var TrailKinds = []string{TrailSignedIn, TrailSignInFailed, TrailSignedOut, TrailSessionEnded, TrailAccountCreated,
	TrailAccountChanged, TrailAccountRemoved,
	TrailPersonCreated, TrailPersonChanged, TrailPersonRemoved, TrailPassword, TrailKeyCreated, TrailKeyChanged,
	TrailKeyReplaced, TrailKeyRemoved, TrailKeyTested,
	TrailGrantCreated, TrailGrantChanged, TrailGrantRemoved, TrailSetting, TrailMasterKey, TrailRefused,
	TrailSignatureWrong, TrailChecked}
