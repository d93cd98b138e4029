package cli

import (
	"cmp"
	"context"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"inktray.example/inktray/client"
)

// origin is a service's address as far as it says who is spoken to: scheme, host and port.
func origin(service string) (string, error) {
	u, err := url.Parse(service)
	if err != nil || u.Scheme != "http" && u.Scheme != "https" || u.Hostname() == "" {
		return "", usageError{fmt.Errorf("%q is not an address of a service; write it as http://127.0.0.1:8025", service)}
	}
	port := u.Port()
	if port == "" {
		port = map[string]string{"http": "80", "https": "443"}[u.Scheme]
	}
	host := strings.ToLower(u.Hostname())
	if strings.Contains(host, ":") {
		host = "[" + host + "]"
	}
	return u.Scheme + "://" + host + ":" + port, nil
}

// tokenFile is where sign-in keeps its token for a service. Each service has a file of its own, so that no token
// goes to another one.
func tokenFile(service string) (string, error) {
	of, err := origin(service)
	if err != nil {
		return "", err
	}
	dir, err := os.UserConfigDir()
	if err != nil {
		return "", err
	}
	return filepath.Join(dir, "inktray", "tokens", url.PathEscape(of)), nil
}

// keepToken keeps a token for a service, readable by this person alone.
func keepToken(service, token string) (path string, err error) {
	if path, err = tokenFile(service); err != nil {
		return "", err
	}
	if err := os.MkdirAll(filepath.Dir(path), 0o700); err != nil {
		return "", err
	}
	temporary, err := os.CreateTemp(filepath.Dir(path), "new-*") // with 0600
	if err != nil {
		return "", err
	}
	_, err = temporary.WriteString(token + "\n")
	if err = errors.Join(err, temporary.Close()); err == nil {
		err = os.Rename(temporary.Name(), path)
	}
	if err != nil {
		return "", errors.Join(err, os.Remove(temporary.Name()))
	}
	// Where there was one file for all services, nobody knows for which one its token is.
	if err := os.Remove(filepath.Join(filepath.Dir(filepath.Dir(path)), "token")); err != nil && !errors.Is(err,
		os.ErrNotExist) {
		return "", err
	}
	return path, nil
}

// keptToken is what sign-in kept for a service, "" for none.
func keptToken(service string) (string, error) {
	path, err := tokenFile(service)
	if err != nil {
		return "", err
	}
	data, err := os.ReadFile(path)
	if errors.Is(err, os.ErrNotExist) {
		return "", nil
	}
	return strings.TrimSpace(string(data)), err
}

// connect makes a client that signs in with INKTRAY_TOKEN, or with what sign-in kept for this service.
func (c *command) connect() (*client.Client, error) {
	token := os.Getenv("INKTRAY_TOKEN")
	if token == "" {
		var err error
		if token, err = keptToken(c.service); err != nil {
			return nil, err
		}
	}
	return c.connectWith(token)
}

// web asks services. It goes nowhere else: an answer that leads elsewhere would take a token along.
func (c *command) web() (*http.Client, error) {
	stay := &http.Client{CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}
	if c.authority != "" {
		trusted, err := trusting(c.authority)
		if err != nil {
			return nil, err
		}
		stay.Transport = trusted
	}
	return stay, nil
}

func (c *command) connectWith(token string) (*client.Client, error) {
	stay, err := c.web()
	if err != nil {
		return nil, err
	}
	return client.NewClient(c.service, client.WithHTTPClient(stay),
		client.WithRequestEditorFn(func(_ context.Context, r *http.Request) error {
			r.Header.Set("User-Agent", "inktray/"+Version)
			if c.language != "" {
				r.Header.Set("Accept-Language", c.language)
			}
			if c.at != "" {
				there := "/api/at/" + url.PathEscape(c.at) + "/v1/"
				r.URL.Path = strings.Replace(r.URL.Path, "/api/v1/", there, 1)
				r.URL.RawPath = strings.Replace(r.URL.RawPath, "/api/v1/", there, 1)
			}
			if token != "" {
				r.Header.Set("Authorization", "Bearer "+token)
			}
			return nil
		}))
}

// trusting speaks TLS with services whose certificates an authority of the office has signed, or the machine trusts.
func trusting(file string) (http.RoundTripper, error) {
	pem, err := os.ReadFile(file)
	if err != nil {
		return nil, usageError{fmt.Errorf("the authority's certificate cannot be read: %s", inWords(err))}
	}
	pool, err := x509.SystemCertPool()
	if err != nil {
		pool = x509.NewCertPool()
	}
	if !pool.AppendCertsFromPEM(pem) {
		return nil, usageError{fmt.Errorf("%s holds no certificate in PEM", file)}
	}
	transport := http.DefaultTransport.(*http.Transport).Clone()
	transport.TLSClientConfig = &tls.Config{MinVersion: tls.VersionTLS12, RootCAs: pool}
	transport.IdleConnTimeout = time.Second // a command asks once, or a few times in a row
	return transport, nil
}

func (c signInCommands) signIn() *cobra.Command {
	var name, file, code, link, factor string
	cmd := &cobra.Command{
		Use: "sign-in", Short: "Sign in, and keep a token for the next commands", Args: cobra.NoArgs,
		Long: "Signs in with name and password and keeps a token in your own settings folder, for this service alone. The " +
			"password comes from the prompt, from INKTRAY_PASSWORD or from --password-file.\nWith --set-up CODE it makes the " +
			"first administrator instead; the code stands in the link that the first start prints. " +
			"With --link CODE you choose your password by the link that an administrator gave you.",
		RunE: func(cmd *cobra.Command, _ []string) error {
			if name == "" && link == "" {
				return usageError{errors.New("say who you are with --user")}
			}
			if _, err := origin(c.service); err != nil {
				return err
			}
			if link != "" {
				var err error
				if name, err = c.linkedPerson(cmd.Context(), link); err != nil {
					return err
				}
			}
			password, err := c.secret(file, "INKTRAY_PASSWORD", "Password")
			if err != nil {
				return err
			}
			enter := func() (string, error) { return c.tokenFor(cmd.Context(), name, password, code, factor) }
			if link != "" {
				enter = func() (string, error) {
					return c.tokenBy(cmd.Context(), password, func(api *client.Client) (*http.Response, error) {
						return api.UseLink(cmd.Context(), client.LinkUse{Code: link, Password: password, Factor: given(factor)})
					})
				}
			}
			token, err := enter()
			var no *problem
			asks := map[string]string{"second-factor": "The code of your authenticator app: ",
				"passkey": "You have a passkey, which works in a browser only. Give one of your recovery codes here: "}
			if errors.As(err, &no) && asks[no.kind()] != "" && factor == "" {
				if factor, err = c.ask(asks[no.kind()]); err != nil {
					return no
				}
				token, err = enter()
			}
			if err != nil {
				return err
			}
			path, err := keepToken(c.service, token)
			if err != nil {
				return fmt.Errorf("keeping the token: %w", err)
			}
			c.printf("Signed in as %s. The token for %s is in %s.\n", name, c.service, path)
			return nil
		},
	}
	cmd.Flags().StringVar(&name, "user", "", "your name")
	cmd.Flags().StringVar(&file, "password-file", "", "file that holds the password")
	cmd.Flags().StringVar(&code, "set-up", "", "code of the set-up link: make the first administrator")
	cmd.Flags().StringVar(&factor, "code", "",
		"code of your authenticator app, or a recovery code; else it is asked for")
	cmd.Flags().StringVar(&link, "link", "", "code of the link that you were given: choose your password")
	return cmd
}

// linkedPerson says whom a link is for.
func (c *command) linkedPerson(ctx context.Context, link string) (string, error) {
	api, err := c.connectWith("")
	if err != nil {
		return "", err
	}
	me, err := call[client.Me](api.LookAtLink(ctx, client.LinkCode{Code: link}))
	if err == nil {
		c.tellf("The link is for %s. Choose a password of at least ten characters.\n", me.Name)
	}
	return me.Name, err
}

// tokenFor signs in with name and password, or makes the first administrator where there is a code.
func (c *command) tokenFor(ctx context.Context, name, password, code, factor string) (string, error) {
	return c.tokenBy(ctx, password, func(api *client.Client) (*http.Response, error) {
		if code != "" {
			return api.PostSetup(ctx, client.SetupRequest{Code: code, Name: name, Password: password})
		}
		return api.SignIn(ctx, client.SignInRequest{Name: name, Password: password, Code: given(factor)})
	})
}

// tokenBy signs in, by way of a session that ends with it, and makes a token.
func (c *command) tokenBy(ctx context.Context, password string,
	enter func(api *client.Client) (*http.Response, error)) (string, error) {
	api, err := c.connectWith("")
	if err != nil {
		return "", err
	}
	response, err := enter(api)
	me, err := call[client.Me](response, err)
	if err != nil {
		return "", err
	}
	cookies := response.Cookies()
	within := func(_ context.Context, r *http.Request) error {
		for _, k := range cookies {
			r.AddCookie(k)
		}
		r.Header.Set("Sec-Fetch-Site", "same-origin")
		return nil
	}
	if deref(me.MustEnrol) {
		c.tellln("You need a second factor here, and you have none yet.")
		if err := (doorCommands{c}).enrol(ctx, api, password, within); err != nil {
			return "", err
		}
	}
	host, _ := os.Hostname()
	token, err := call[client.Token](api.MakeToken(ctx, client.TokenRequest{Label: "command line on " + host}, within))
	if err != nil {
		return "", err
	}
	_, err = call[nothing](api.SignOut(ctx, within))
	return token.Token, err
}

func (c signInCommands) signOut() *cobra.Command {
	return &cobra.Command{
		Use: "sign-out", Short: "End and forget the token that sign-in kept for this service", Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			token, err := keptToken(c.service)
			if err != nil {
				return err
			}
			kept := token != ""
			if token = cmp.Or(token, os.Getenv("INKTRAY_TOKEN")); token == "" {
				return &exitError{exitSignIn, fmt.Sprintf("you are not signed in to %s", c.service)}
			}
			api, err := c.connectWith(token)
			if err != nil {
				return err
			}
			_, ended := call[nothing](api.SignOut(cmd.Context()))
			var p *problem
			if errors.As(ended, &p) && p.Status == http.StatusUnauthorized {
				ended = nil // it had ended already
			}
			if !kept {
				if ended == nil {
					c.println("The token in INKTRAY_TOKEN has ended.")
				}
				return ended
			}
			path, err := tokenFile(c.service)
			if err == nil {
				err = os.Remove(path)
			}
			if err != nil {
				return errors.Join(ended, fmt.Errorf("forgetting the token: %w", err))
			}
			if ended != nil {
				c.tellln("The token is forgotten here, but the service could not be told: it stays valid there until " +
					"it expires.")
				return ended
			}
			c.println("Signed out.")
			return nil
		},
	}
}
