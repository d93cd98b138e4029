package reach

import (
	"errors"

	"github.com/emersion/go-sasl"
)

// ErrToken says that a server refused a token of OAuth 2.0.
var ErrToken = errors.New("the server refuses the token")

// XOAUTH2 is the mechanism that came before OAUTHBEARER and that many servers
// still ask for.
const XOAUTH2 = "XOAUTH2"

type xoauth2 struct{ username, token string }

func (x *xoauth2) Start() (string, []byte, error) {
	return XOAUTH2, []byte("user=" + x.username + "\x01auth=Bearer " + x.token + "\x01\x01"), nil
}

// Next is asked where the server refuses; an empty answer lets it say so.
func (x *xoauth2) Next([]byte) ([]byte, error) { return []byte{}, nil }

// hearing hears a refusal out, as RFC 7628 section 3.2.3 has it.
type hearing struct{ sasl.Client }

func (hearing) Next([]byte) ([]byte, error) { return []byte{1}, nil }

// Bearer signs in with a token: by OAUTHBEARER (RFC 7628) where the server has it,
// else by XOAUTH2. nil where it has neither.
func (s *Server) Bearer(username, token string, has func(mechanism string) bool) sasl.Client {
	switch {
	case has(sasl.OAuthBearer):
		return hearing{
			sasl.NewOAuthBearerClient(&sasl.OAuthBearerOptions{Username: username, Token: token, Host: s.Host, Port: s.Port})}
	case has(XOAUTH2):
		return &xoauth2{username, token}
	}
	return nil
}
