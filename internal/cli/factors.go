package cli

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"inktray.example/inktray/client"
)

// secondFactor is one's own.
func (c doorCommands) secondFactor() *cobra.Command {
	root := &cobra.Command{Use: "second-factor",
		Short: "Your second factors: codes of an authenticator app, and passkeys"}
	root.AddCommand(c.factorShow(), c.factorSetUp(), c.factorCodes(), c.factorRemove(), c.passkeyRemove())
	return root
}

func (c doorCommands) factorShow() *cobra.Command {
	return &cobra.Command{Use: "show", Short: "Say whether you have a second factor", Args: cobra.NoArgs,
		RunE: c.do(func(ctx context.Context, api *client.Client, _ []string) error {
			f, err := call[client.Factor](api.GetMyFactor(ctx))
			if err != nil {
				return err
			}
			return c.show(f, func() {
				if f.Since != nil {
					c.printf("Ink Tray has asked for codes of your authenticator app since %s.\n",
						f.Since.Local().Format("2 January 2006"))
				}
				for _, k := range f.Passkeys {
					used := c.texts.Say("not used yet")
					if k.UsedAt != nil {
						used = c.texts.Say("used last on " + k.UsedAt.Local().Format("2 January 2006"))
					}
					c.printf("The passkey “%s” is good for %s since %s, %s.\n", k.Name, k.Host,
						k.MadeAt.Local().Format("2 January 2006"), used)
				}
				switch {
				case f.SetUp:
					c.printf("%s left.\n", count(f.Codes, "recovery code"))
				case f.Asked:
					c.println("You have no second factor, and you need one here. Set it up with inktray second-factor set-up.")
				default:
					c.println("You have no second factor. Set one up with inktray second-factor set-up, or add a passkey " +
						"in the console, under your name.")
				}
			})
		})}
}

func (c doorCommands) factorSetUp() *cobra.Command {
	var file string
	cmd := &cobra.Command{Use: "set-up", Short: "Set up codes of an authenticator app (RFC 6238)", Args: cobra.NoArgs,
		Long: "Asks for your password, prints a secret for the app, and asks for the code that the app then shows. " +
			"Another app replaces the previous one.",
		RunE: c.do(func(ctx context.Context, api *client.Client, _ []string) error {
			password, err := c.secret(file, "INKTRAY_PASSWORD", "Password")
			if err != nil {
				return err
			}
			return c.enrol(ctx, api, password)
		})}
	cmd.Flags().StringVar(&file, "password-file", "", "file that holds your password")
	return cmd
}

// enrol sets up codes of an authenticator app, for whoever with signs in.
func (c doorCommands) enrol(ctx context.Context, api *client.Client, password string,
	with ...client.RequestEditorFn) error {
	s, err := call[client.FactorSecret](api.BeginFactor(ctx, client.OwnPassword{Password: password}, with...))
	if err != nil {
		return err
	}
	c.tellf("Enter this secret in an authenticator app:\n\n   %s\n\nor open this address with it:\n\n   "+
		"%s\n\n", grouped(s.Secret), s.Address)
	code, err := c.ask("The code that it shows: ")
	if err != nil {
		return usageError{errors.New("the code of the app is asked for in a terminal; set the second factor up there or in " +
			"the console")}
	}
	codes, err := call[client.RecoveryCodes](api.ConfirmFactor(ctx, client.FactorCode{Code: code}, with...))
	if err != nil {
		return err
	}
	return c.codes(codes, "Your second factor is set up.")
}

// grouped parts a secret into groups of four.
func grouped(s string) string {
	var parts []string
	for part := range slices.Chunk([]byte(s), 4) {
		parts = append(parts, string(part))
	}
	return strings.Join(parts, " ")
}

// codes shows recovery codes.
func (c doorCommands) codes(codes client.RecoveryCodes, said string) error {
	return c.show(codes, func() {
		c.printf("%s Keep these recovery codes for when the app or passkey is lost. Each works once in place of "+
			"it, and they are not shown again:\n\n", said)
		for _, one := range codes.Codes {
			fmt.Fprintln(c.out, "   "+one)
		}
	})
}

func (c doorCommands) factorCodes() *cobra.Command {
	var file string
	cmd := &cobra.Command{Use: "codes", Args: cobra.NoArgs,
		Short: "Make new recovery codes, for when the app or passkey is lost; the former ones no longer work",
		RunE: c.do(func(ctx context.Context, api *client.Client, _ []string) error {
			password, err := c.secret(file, "INKTRAY_PASSWORD", "Password")
			if err != nil {
				return err
			}
			codes, err := call[client.RecoveryCodes](api.MakeRecoveryCodes(ctx, client.OwnPassword{Password: password}))
			if err != nil {
				return err
			}
			return c.codes(codes, "These are your new recovery codes.")
		})}
	cmd.Flags().StringVar(&file, "password-file", "", "file that holds your password")
	return cmd
}

func (c doorCommands) factorRemove() *cobra.Command {
	var file string
	yes := false
	cmd := &cobra.Command{Use: "remove", Short: "Sign in without codes of an authenticator app again", Args: cobra.NoArgs,
		RunE: c.do(func(ctx context.Context, api *client.Client, _ []string) error {
			if err := c.confirm("Ink Tray then no longer asks for a code of the app when you sign in. Remove it?",
				yes); err != nil {
				return err
			}
			password, err := c.secret(file, "INKTRAY_PASSWORD", "Password")
			if err != nil {
				return err
			}
			if _, err := call[nothing](api.RemoveMyFactor(ctx, client.OwnPassword{Password: password})); err != nil {
				return err
			}
			c.println("Ink Tray no longer asks for codes of the app.")
			return nil
		})}
	cmd.Flags().StringVar(&file, "password-file", "", "file that holds your password")
	cmd.Flags().BoolVar(&yes, "yes", false, "do not ask")
	return cmd
}

// passkeyRemove takes one of one's own passkeys away. They are added in a browser, which speaks with the device.
func (c doorCommands) passkeyRemove() *cobra.Command {
	var file string
	yes := false
	cmd := &cobra.Command{Use: "remove-passkey NAME", Short: "Remove one of your passkeys", Args: cobra.ExactArgs(1),
		RunE: c.do(func(ctx context.Context, api *client.Client, args []string) error {
			f, err := call[client.Factor](api.GetMyFactor(ctx))
			if err != nil {
				return err
			}
			var found []client.Passkey
			for _, k := range f.Passkeys {
				if k.Name == args[0] || k.ID == args[0] {
					found = append(found, k)
				}
			}
			switch {
			case len(found) == 0:
				return &exitError{exitMissing, fmt.Sprintf("you have no passkey “%s”; see inktray second-factor show", args[0])}
			case len(found) > 1:
				return usageError{fmt.Errorf("you have %d passkeys “%s”; name one by its id, which inktray second-factor show "+
					"--output json has", len(found), args[0])}
			}
			if err := c.confirm(fmt.Sprintf("You can then no longer sign in with the device “%s”. Remove the passkey?",
				found[0].Name), yes); err != nil {
				return err
			}
			password, err := c.secret(file, "INKTRAY_PASSWORD", "Password")
			if err != nil {
				return err
			}
			if _, err := call[nothing](api.RemovePasskey(ctx, found[0].ID,
				client.OwnPassword{Password: password})); err != nil {
				return err
			}
			c.printf("The passkey “%s” is removed. Remove it from the device, too.\n", found[0].Name)
			return nil
		})}
	cmd.Flags().StringVar(&file, "password-file", "", "file that holds your password")
	cmd.Flags().BoolVar(&yes, "yes", false, "do not ask")
	return cmd
}

// peopleFactor takes somebody's second factor away.
func (c doorCommands) peopleFactor() *cobra.Command {
	yes := false
	cmd := &cobra.Command{Use: "remove-factor NAME", Short: "Take a person's second factor away, because it was lost",
		Args: cobra.ExactArgs(1), RunE: c.do(func(ctx context.Context, api *client.Client, args []string) error {
			p, err := findPerson(ctx, api, args[0])
			if err != nil {
				return err
			}
			if err := c.confirm(fmt.Sprintf("Until “%s” sets up another one, anyone who knows the password can sign in. "+
				"Remove the second factor?", p.Name), yes); err != nil {
				return err
			}
			_, err = call[nothing](api.RemoveFactor(ctx, p.ID))
			var no *problem
			if errors.As(err, &no) && no.Status == 404 {
				return &exitError{exitMissing, p.Name + " has no second factor"}
			}
			if err != nil {
				return err
			}
			c.printf("%s no longer has a second factor.\n", p.Name)
			return nil
		})}
	cmd.Flags().BoolVar(&yes, "yes", false, "do not ask")
	return cmd
}

// signInRules are how people sign in.
func (c doorCommands) signInRules() *cobra.Command {
	root := &cobra.Command{Use: "sign-in-rules",
		Short: "How people sign in: who needs a second factor, and the office's own sign-in"}
	root.AddCommand(c.signInShow(), c.signInSet())
	return root
}

func (c doorCommands) toldSignIn(r client.SignInRules) error {
	return c.show(r, func() {
		c.printf("A second factor is required for %s.\n", r.SecondFactor)
		o := r.Office
		if o == nil {
			c.printf("There is no sign-in of the office. If you set one up, it has to know this address to return "+
				"to:\n   %s\n", r.ReturnAddress)
			return
		}
		c.printf("People sign in with %s (%s), where this service is called %s and returns to %s.\n", deref(o.Name),
			o.Issuer, o.Client, r.ReturnAddress)
		var roles []string
		for value, role := range *o.Roles {
			roles = append(roles, fmt.Sprintf("%s is %s", value, role))
		}
		slices.Sort(roles)
		if len(roles) > 0 {
			c.printf("Its claim “%s” gives the role: %s.\n", deref(o.Claim), strings.Join(roles, ", "))
		}
		if deref(o.MakePeople) {
			c.println("People to whom the claim gives a role need no invitation.")
		}
		if deref(o.Only) {
			c.println("Only administrators sign in by password.")
		}
	})
}

func (c doorCommands) signInShow() *cobra.Command {
	return &cobra.Command{Use: "show", Short: "Say how people sign in", Args: cobra.NoArgs,
		RunE: c.do(func(ctx context.Context, api *client.Client, _ []string) error {
			r, err := call[client.SignInRules](api.GetSignIn(ctx))
			if err != nil {
				return err
			}
			return c.toldSignIn(r)
		})}
}

func (c doorCommands) signInSet() *cobra.Command {
	var factor, issuer, id, file, name, claim string
	var roles map[string]string
	make, only := false, false
	cmd := &cobra.Command{Use: "set", Short: "Set how people sign in; options that you leave out stay as they " +
		"are", Args: cobra.NoArgs,
		Long: "The office's sign-in has to speak OpenID Connect. Ink Tray asks it for its settings before it keeps " +
			"anything. The client secret comes from --secret-file or from INKTRAY_SECRET."}
	cmd.RunE = c.do(func(ctx context.Context, api *client.Client, _ []string) error {
		now, err := call[client.SignInRules](api.GetSignIn(ctx))
		if err != nil {
			return err
		}
		given := cmd.Flags().Changed
		s := client.SignInSettings{SecondFactor: client.SignInSettingsSecondFactor(now.SecondFactor), Office: now.Office}
		if given("second-factor") {
			s.SecondFactor = client.SignInSettingsSecondFactor(factor)
		}
		o := client.OfficeSettings{}
		if s.Office != nil {
			o = *s.Office
		}
		text := func(flag, value string, into **string) {
			if given(flag) {
				*into = &value
			}
		}
		if given("issuer") {
			o.Issuer = issuer
		}
		if given("client") {
			o.Client = id
		}
		text("name", name, &o.Name)
		text("claim", claim, &o.Claim)
		if given("roles") {
			all := map[string]client.Role{}
			for value, role := range roles {
				all[value] = client.Role(role)
			}
			o.Roles = &all
		}
		if given("make-people") {
			o.MakePeople = &make
		}
		if given("only") {
			o.Only = &only
		}
		if given("secret-file") || given("issuer") && issuer != "" && !now.SecretKept {
			secret, err := c.secret(file, "INKTRAY_SECRET", "Secret of this service at the office's sign-in")
			if err != nil {
				return err
			}
			o.Secret = &secret
		}
		if s.Office != nil || o.Issuer != "" || given("issuer") {
			s.Office = &o
		}
		r, err := call[client.SignInRules](api.SetSignIn(ctx, &client.SetSignInParams{IfMatch: ifMatch(now.Revision)}, s))
		if err != nil {
			return err
		}
		return c.toldSignIn(r)
	})
	flags := cmd.Flags()
	flags.StringVar(&factor, "second-factor", "nobody", "who needs it: nobody, administrators or everyone")
	flags.StringVar(&issuer, "issuer", "", "address of the office's sign-in; \"\" for none")
	flags.StringVar(&id, "client", "", "the client id of this service there")
	flags.StringVar(&file, "secret-file", "", "file with the secret that the office's sign-in knows")
	flags.StringVar(&name, "name", "the office", "the name on the button: Sign in with …")
	flags.StringVar(&claim, "claim", "roles", "the claim that gives the role")
	flags.StringToStringVar(&roles, "roles", nil, "roles by the claim's values: \"berth desk=clerk,it=administrator\"")
	flags.BoolVar(&make, "make-people", false, "let people in to whom the claim gives a role, also if nobody invited "+
		"them")
	flags.BoolVar(&only, "only", false, "only administrators sign in by password")
	return cmd
}
