package api

// The handlers are grouped by noun. Each group works on the one server, which offers all of them.
type (
	// signInHandlers serve signing in, sessions and tokens.
	signInHandlers struct{ *Server }
	// peopleHandlers serve people, groups, sessions, tokens and the audit trail.
	peopleHandlers struct{ *Server }
	// backupHandlers serve backups, and the comparison after a restoring.
	backupHandlers struct{ *Server }
	// bookHandlers serve correspondents, tables and the people who are notified.
	bookHandlers struct{ *Server }
	// doorHandlers serve second factors and the office's sign-in.
	doorHandlers struct{ *Server }
	// handHandlers serve what people do with messages by hand.
	handHandlers struct{ *Server }
	// cabinetHandlers serve cabinets.
	cabinetHandlers struct{ *Server }
	// careHandlers serve the tray, passes and the care for rules.
	careHandlers struct{ *Server }
	// mailboxHandlers serve mailboxes and drop addresses.
	mailboxHandlers struct{ *Server }
	// placeHandlers serve folders, readiness and metrics.
	placeHandlers struct{ *Server }
	// registerHandlers serve the register.
	registerHandlers struct{ *Server }
	// valueHandlers serve what was read of filed files.
	valueHandlers struct{ *Server }
	// ruleHandlers serve rules and rehearsals.
	ruleHandlers struct{ *Server }
	// topicHandlers serve topics.
	topicHandlers struct{ *Server }
	// workHandlers serve today, mail and the event stream.
	workHandlers struct{ *Server }
	// handOverHandlers serve handing mailboxes over.
	handOverHandlers struct{ *Server }
)

// handlers are all groups.
type handlers struct {
	*signInHandlers
	*peopleHandlers
	*backupHandlers
	*bookHandlers
	*doorHandlers
	*handHandlers
	*cabinetHandlers
	*careHandlers
	*mailboxHandlers
	*placeHandlers
	*registerHandlers
	*valueHandlers
	*ruleHandlers
	*topicHandlers
	*workHandlers
	*handOverHandlers
	*machineHandlers
	*wideHandlers
}

// group gives each group of handlers its server.
func (s *Server) group() {
	s.handlers = handlers{
		signInHandlers:   &signInHandlers{s},
		peopleHandlers:   &peopleHandlers{s},
		backupHandlers:   &backupHandlers{s},
		bookHandlers:     &bookHandlers{s},
		doorHandlers:     &doorHandlers{s},
		handHandlers:     &handHandlers{s},
		cabinetHandlers:  &cabinetHandlers{s},
		careHandlers:     &careHandlers{s},
		mailboxHandlers:  &mailboxHandlers{s},
		placeHandlers:    &placeHandlers{s},
		registerHandlers: &registerHandlers{s},
		valueHandlers:    &valueHandlers{s},
		ruleHandlers:     &ruleHandlers{s},
		topicHandlers:    &topicHandlers{s},
		workHandlers:     &workHandlers{s},
		handOverHandlers: &handOverHandlers{s},
		machineHandlers:  &machineHandlers{s},
		wideHandlers:     &wideHandlers{s},
	}
}
