package cli

import (
	"crypto/tls"
	"errors"
	"fmt"
	"net"
	"net/http"
	"net/netip"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/spf13/cobra"
	"golang.org/x/text/language"

	"inktray.example/inktray/internal/inbound"
)

func transportFlags(cmd *cobra.Command, o *serviceOptions) {
	f := cmd.Flags()
	f.StringVar(&o.certificate, "certificate", "",
		"file with the certificate of console and interface, PEM, with those of its authorities; read again when it "+
			"changes")
	f.StringVar(&o.key, "certificate-key", "", "file with its key, PEM")
	f.StringVar(&o.acme, "acme", "",
		"address of the directory of an authority that gives out certificates by itself (RFC 8555), in place of "+
			"--certificate; for the names in --address. Its terms count as accepted")
	f.StringVar(&o.acmeMail, "acme-mail", "", "mail address by which that authority reaches you")
	f.StringVar(&o.redirect, "redirect", "",
		"address without TLS on which browsers are led to the one with TLS, such as 0.0.0.0:80")
	f.BoolVar(&o.plain, "without-tls", false,
		"let other machines reach it without TLS, such as a web server in front; passwords can be read on the way")
	f.StringSliceVar(&o.proxies, "proxies", nil,
		"addresses or networks of web servers in front, such as 192.0.2.7 or 192.0.2.0/24; Ink Tray believes the client "+
			"addresses that they report")
}

// transport reads how the service is reached: the settings of TLS, nil for none, and who is believed in front.
func (o *serviceOptions) transport() (secure *tls.Config, proxies []netip.Prefix, err error) {
	if (o.certificate == "") != (o.key == "") {
		return nil, nil, &exitError{exitUsage, "TLS needs both: --certificate and --certificate-key"}
	}
	if o.certificate != "" {
		certificate, err := inbound.ReadCertificate(o.certificate, o.key, o.notRenewed)
		if err != nil {
			return nil, nil, &exitError{exitUsage, fmt.Sprintf("the certificate cannot be used: %s", inWords(err))}
		}
		secure = certificate.Config()
	}
	if o.acme != "" {
		if o.certificate != "" {
			return nil, nil, &exitError{exitUsage,
				"the certificate is a file or comes from an authority: --certificate or --acme"}
		}
		if o.authority, err = o.asksForCertificates(); err != nil {
			return nil, nil, &exitError{exitUsage, fmt.Sprintf("no certificate can be asked for: %s", err)}
		}
		secure = o.authority.Config()
	}
	if secure == nil && o.redirect != "" {
		return nil, nil, &exitError{exitUsage,
			"--redirect leads to the address with TLS, which needs --certificate or --acme"}
	}
	if secure == nil && !o.plain && !onThisMachine(o.listen) {
		return nil, nil, &exitError{exitUsage, fmt.Sprintf("--listen %s lets other machines in without TLS, so that "+
			"passwords can be read on the way; give it a --certificate, or say --without-tls if a web server in front "+
			"speaks TLS", o.listen)}
	}
	for _, one := range o.proxies {
		one = strings.TrimSpace(one)
		network, err := netip.ParsePrefix(one)
		if err != nil {
			address, err := netip.ParseAddr(one)
			if err != nil {
				return nil, nil, &exitError{exitUsage, fmt.Sprintf("%q is not an address or network of --proxies", one)}
			}
			network = netip.PrefixFrom(address, address.BitLen())
		}
		proxies = append(proxies, network)
	}
	return secure, proxies, nil
}

// asksForCertificates gets certificates for the names by which people reach the service.
func (o *serviceOptions) asksForCertificates() (*inbound.ACME, error) {
	reached, err := addresses(o.reached)
	if err != nil {
		return nil, err
	}
	var names []string
	for _, u := range reached {
		if u.Scheme == "https" && net.ParseIP(u.Hostname()) == nil {
			names = append(names, u.Hostname())
		}
	}
	return inbound.NewACME(inbound.ACMEConfig{Directory: o.acme, Mail: o.acmeMail, Names: names,
		Folder: filepath.Join(o.data, "acme"), Failed: func(name string, err error) {
			o.log.Error("there is no certificate", "name", name, "authority", o.acme, "error", err)
		}})
}

// notRenewed tells of a certificate that cannot be used as it lies there now.
func (o *serviceOptions) notRenewed(err error) {
	o.log.Error("a certificate cannot be read as it is now; the former one is used as long as that is so", "error", err)
}

// onThisMachine says whether nobody else reaches an address that is listened on.
func onThisMachine(listen string) bool {
	host, _, err := net.SplitHostPort(listen)
	if err != nil {
		return true // listening says what is wrong with it
	}
	return inbound.Loopback(host)
}

// open listens for browsers and programs.
func (s *service) open(o serviceOptions) (secure *tls.Config, proxies []netip.Prefix, err error) {
	if secure, proxies, err = o.transport(); err != nil {
		return nil, nil, err
	}
	if s.listener, err = listen(o.listen); err != nil {
		return nil, nil, err
	}
	if s.tls = secure != nil; o.redirect != "" {
		if err := s.leadOn(o.redirect, o.authority); err != nil {
			return nil, nil, errors.Join(err, s.listener.Close())
		}
	}
	return secure, proxies, nil
}

// leadOn answers without TLS, and leads to the address with TLS. An authority that gives out certificates is answered
// there, too; nil for none.
func (s *service) leadOn(address string, authority *inbound.ACME) error {
	l, err := listen(address)
	if err != nil {
		return err
	}
	_, port, err := net.SplitHostPort(s.listener.Addr().String())
	if err != nil {
		return errors.Join(err, l.Close())
	}
	s.redirect = &http.Server{ReadHeaderTimeout: 10 * time.Second, IdleTimeout: time.Minute, MaxHeaderBytes: 16 << 10,
		Handler: http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			to := ""
			if len(s.reached) > 0 {
				to = s.reached[0].String()
			} else {
				host := r.Host
				if name, _, err := net.SplitHostPort(host); err == nil {
					host = name
				}
				if host = strings.Trim(host, "[]"); host == "" {
					http.Error(w, "Ink Tray is reached over TLS.", http.StatusBadRequest)
					return
				}
				to = "https://" + net.JoinHostPort(host, port)
			}
			http.Redirect(w, r, to+r.URL.RequestURI(), http.StatusPermanentRedirect)
		})}
	if authority != nil {
		s.redirect.Handler = authority.Answering(s.redirect.Handler)
	}
	go func() { _ = s.redirect.Serve(inbound.Limit(l, inbound.Limits{Total: 200, PerHost: 20})) }()
	return nil
}

// check finds what stands against a start, without starting anything.
func (o *serviceOptions) check() error {
	var wrong []error
	note := func(err error) {
		if err != nil {
			wrong = append(wrong, err)
		}
	}
	if _, err := time.LoadLocation(o.zone); err != nil {
		note(fmt.Errorf("there is no time zone %q; use a name such as Europe/Oslo", o.zone))
	}
	if _, err := language.Parse(o.language); err != nil {
		note(fmt.Errorf("there is no language %q; use a tag such as en or de-AT", o.language))
	}
	_, err := addresses(o.reached)
	note(err)
	_, err = scannerAt(o.scanner)
	note(err)
	_, _, err = o.transport()
	note(err)
	for _, address := range []string{o.listen, o.redirect, o.receive.smtp, o.receive.lmtp} {
		if address == "" {
			continue
		}
		l, err := listen(address)
		if err == nil {
			err = l.Close()
		}
		note(err)
	}
	note(o.replica.check())
	note(o.replica.opens())
	note(writable(o.data))
	if len(wrong) == 0 {
		return nil
	}
	all := strings.ReplaceAll(errors.Join(wrong...).Error(), "\n", "\n  ")
	return &exitError{exitFailure, "it would not start:\n  " + all}
}

// writable says why nothing can be written into a folder; where it is not there yet, whether it could be made.
func writable(folder string) error {
	at := folder
	for {
		info, err := os.Stat(at)
		if err == nil && !info.IsDir() {
			return fmt.Errorf("%s is not a folder", at)
		}
		if err == nil {
			break
		}
		if !errors.Is(err, os.ErrNotExist) || filepath.Dir(at) == at {
			return err
		}
		at = filepath.Dir(at)
	}
	f, err := os.CreateTemp(at, ".inktray-check-*")
	if err != nil {
		return fmt.Errorf("nothing can be written into %s: %w", at, err)
	}
	return errors.Join(f.Close(), os.Remove(f.Name()))
}
