package service

import (
	"context"
	"net/http"
	"sync"

	"github.com/gofiber/fiber/v3"
	"github.com/gofiber/fiber/v3/middleware/adaptor"
	"github.com/prometheus/client_golang/prometheus/promhttp"

	"vorrang/core/access"
)

// endpoints is every operation of the API.
func (s *Service) endpoints() []endpoint {
	const lane, environment = "/api/v1/lanes/{lane}", "/api/v1/lanes/{lane}/environments/{environment}"
	accepted := func(e endpoint) endpoint { e.status = http.StatusAccepted; return e }

	look, admin := access.Looking, access.By(access.Administrator)
	author, releaser, keeper := access.By(access.Author), access.By(access.Releaser), access.By(access.Keeper)
	approver := access.By(access.Approver)
	mayFreeze, mayThaw := access.By(
		access.Releaser,
		access.Approver,
		access.Keeper,
	), access.By(
		access.Approver,
		access.Keeper,
	)
	working := access.By(access.Author, access.Releaser, access.Approver, access.Keeper)
	building := working // makes a scratch database
	mayReport := access.By(access.Reporter, access.Keeper)
	self := func(e endpoint) endpoint { e.self = true; return e }
	leaves := func(e endpoint) endpoint { e.leaves = true; return e }

	proof := func(e endpoint) endpoint { e.proof = true; return e }

	signIn := on(
		look,
		http.MethodPost,
		"/api/v1/session",
		"signIn",
		"Signs in by name and password, or with the administrator's token; sets a session cookie, or gives a token",
		s.identities.signIn,
	)
	signIn.open = true
	ways := on(look, http.MethodGet, "/api/v1/session/ways", "getWaysIn",
		"Says how one can sign in", s.identities.waysIn)
	openID := on(look, http.MethodGet, openIDPath, "openID",
		"Sends the browser to the OpenID Connect provider", s.identities.openID)
	openIDBack := on(look, http.MethodGet, openIDPath+"/callback", "openIDBack",
		"Takes the browser back from the provider, and opens a session", s.identities.openIDBack)
	ways.open, openID.open, openIDBack.open = true, true, true
	apply := on(admin, http.MethodPost, "/api/v1/lanes", "declareLane",
		"Declares a lane from a lane file", s.catalogue.declareLane)
	apply.takes = "application/yaml"
	submit := on(author, http.MethodPost, lane+"/submissions", "submit",
		"Sends a step folder to the catalogue", s.catalogue.submit)
	submit.takes, submit.uploads = "application/x-tar", true
	trial := on(look, http.MethodPost, lane+"/submissions/trial", "trySubmit",
		"Says what a submission of a step folder would do, and changes nothing", s.catalogue.trySubmit)
	known := on(look, http.MethodPost, lane+"/texts/known", "knownTexts",
		"Says which files of a folder need not be sent, since the lane has had them", s.catalogue.knownTexts)
	known.reads = true // and asks for thousands of digests, which are nothing for the audit
	trial.takes, trial.uploads, trial.leaves = "application/x-tar", true, true
	reviewed := on(look, http.MethodPost, lane+"/reviews", "review",
		"Says what a reviewer should know of the steps of a folder, and keeps nothing", s.catalogue.review)
	reviewed.takes, reviewed.uploads, reviewed.leaves = "application/x-tar", true, true
	bundle := on(look, http.MethodGet, lane+"/releases/{release}/bundle", "export",
		"Gives a release as a .tar.gz with SHA256SUMS inside", s.catalogue.export)
	bundle.gives = "application/gzip"
	submitBundle := on(releaser, http.MethodPost, lane+"/bundles", "submitBundle",
		"Takes a release from another Vorrang, unchanged", s.catalogue.submitBundle)
	submitBundle.takes, submitBundle.uploads = "application/gzip", true
	picture := on(look, http.MethodGet, environment+"/map.svg", "getMapPicture",
		"Draws the same map as SVG", s.schemas.svg)
	picture.gives = "image/svg+xml"
	document := on(look, http.MethodGet, environment+"/report", "getReport",
		"Writes what a reviewer reads of a promotion as one HTML document", s.deploying.report)
	document.gives = "text/html"
	events := on(
		look,
		http.MethodGet,
		"/api/v1/deployments/{id}/events",
		"getEvents",
		"Gives a deployment's events: a list, or with Accept: text/event-stream a stream that resumes with Last-Event-ID",
		s.deploying.events,
	)
	events.streams = true
	rehearsalEvents := on(
		look,
		http.MethodGet,
		environment+"/rehearsals/{rehearsal}/events",
		"getRehearsalEvents",
		"Gives what happens in a rehearsal while it runs: a list, or with Accept: text/event-stream a stream",
		s.deploying.rehearsalEvents,
	)
	rehearsalEvents.streams = true
	fleetDeployment := on(
		look,
		http.MethodGet,
		"/api/v1/fleet-deployments/{fleet}",
		"getFleetDeployment",
		"Gives one deployment to a fleet, and how each target stands; with Accept: text/event-stream a stream of "+
			"events named fleet: that first, and then what changes, with the targets in it that stand in another way",
		s.deploying.fleetDeployment,
	)
	fleetDeployment.streams = true

	return []endpoint{
		signIn, ways, openID, openIDBack,
		self(on(look, http.MethodGet, "/api/v1/session", "getSession",
			"Says who is signed in, and what they may", s.identities.session)),
		self(on(look, http.MethodDelete, "/api/v1/session", "signOut",
			"Ends the session, or revokes the person's token that asks", s.identities.signOut)),
		proof(self(on(look, http.MethodPost, "/api/v1/session/tokens", "makeOwnToken",
			"Makes a token that may do what its person may", s.identities.makeOwnToken))),
		self(on(look, http.MethodGet, "/api/v1/session/tokens", "listOwnTokens",
			"Lists the person's own tokens, never their text", s.identities.ownTokens)),
		self(on(look, http.MethodDelete, "/api/v1/session/tokens/{token}", "revokeOwnToken",
			"Ends one of the person's own tokens", s.identities.revokeOwnToken)),
		self(on(look, http.MethodPost, "/api/v1/session/password", "changePassword",
			"Changes one's own password, and ends one's other sessions and tokens", s.identities.changePassword)),
		on(admin, http.MethodGet, "/api/v1/people", "listPeople",
			"Lists who may sign in, and what they may", s.identities.people),
		proof(on(admin, http.MethodPut, "/api/v1/people/{person}", "putPerson",
			"Keeps a person: new, or changed", s.identities.putPerson)),
		on(admin, http.MethodGet, "/api/v1/tokens", "listTokens",
			"Lists the tokens, never their text", s.identities.tokens),
		proof(on(admin, http.MethodPost, "/api/v1/tokens", "makeToken",
			"Makes a machine's token; its text is in this answer only", s.identities.makeToken)),
		on(admin, http.MethodDelete, "/api/v1/tokens/{token}", "revokeToken", "Ends a token", s.identities.revokeToken),
		on(admin, http.MethodGet, "/api/v1/audit", "searchAudit",
			"Says who did what, newest first; with Accept: application/x-ndjson a line of JSON each", s.book.searchAudit),
		on(admin, http.MethodGet, "/api/v1/hooks", "listHooks",
			"Lists the programs that are told of what happens", s.hooks.hooks),
		on(admin, http.MethodPut, "/api/v1/hooks/{hook}", "putHook",
			"Keeps a hook: new, or changed", s.hooks.putHook),
		on(admin, http.MethodDelete, "/api/v1/hooks/{hook}", "removeHook",
			"Removes a hook with its deliveries", s.hooks.removeHook),
		on(admin, http.MethodGet, "/api/v1/deliveries", "listDeliveries",
			"Says what was sent to hooks, newest first", s.hooks.deliveries),
		on(admin, http.MethodGet, "/api/v1/services", "listServices",
			"Lists the services that share these records and live", s.views.services),
		apply,
		self(on(look, http.MethodGet, "/api/v1/engines", "listEngines",
			"Lists the kinds of database servers that the service works on, and what each can do", s.views.engines)),
		self(on(look, http.MethodGet, "/api/v1/engines/{engine}/findings", "listFindings",
			"Lists the findings that a review for an engine may have, with an example each", s.views.findings)),
		on(look, http.MethodGet, "/api/v1/lanes", "listLanes",
			"Lists the lanes and where their environments stand", s.views.lanes),
		on(look, http.MethodGet, lane, "getLane", "Says where one lane's environments stand", s.views.oneLane),
		submit, trial, known, reviewed,
		on(look, http.MethodGet, lane+"/releases", "listReleases",
			"Lists the releases, newest first", s.catalogue.releases),
		on(releaser, http.MethodPost, lane+"/releases", "cut", "Seals the catalogue up to a step", s.catalogue.cut),
		on(look, http.MethodGet, lane+"/releases/{release}", "getRelease",
			"Gives a release, and what it brings against an environment or another release", s.catalogue.oneRelease),
		on(working, http.MethodPost, lane+"/releases/{release}/signatures", "signRelease",
			"Keeps an SSH signature of a release's SHA256SUMS", s.catalogue.sign),
		bundle, submitBundle,
		on(look, http.MethodGet, lane+"/verification", "verify",
			"Says whether the histories of the lane's targets are consistent", s.views.verification),
		on(look, http.MethodGet, lane+"/comparison", "compare",
			"Says how the schemas of two environments differ", s.schemas.comparison),
		leaves(on(
			building,
			http.MethodPost,
			lane+"/comparisons",
			"compareRelease",
			"Says how an environment's schema differs from what a release makes in a scratch database",
			s.schemas.compareRelease,
		)),
		on(author, http.MethodPost, lane+"/steps/{step}/withdrawal", "withdraw",
			"Takes the newest step out of the catalogue, if it is applied nowhere", s.catalogue.withdraw),
		on(look, http.MethodGet, lane+"/steps/{step}", "getStep",
			"Gives a step of the catalogue with its texts", s.catalogue.step),
		on(look, http.MethodGet, environment, "getStatus", "Says where an environment stands", s.views.status),
		on(look, http.MethodGet, environment+"/steps", "listSteps",
			"Lists the steps of a target with their states, newest first", s.views.steps),
		on(look, http.MethodGet, environment+"/probe", "probe", "Says whether the target can be used", s.views.probe),
		on(look, http.MethodGet, environment+"/ledger", "getLedger",
			"Gives a target's history, newest first", s.views.ledger),
		on(look, http.MethodGet, environment+"/ledger/setup", "getLedgerSetup",
			"Gives the SQL by which a target's ledger gets an owner of its own", s.views.ledgerSetup),
		on(look, http.MethodGet, environment+"/gate", "getGate", "Asks the gate's checks", s.gates.gate),
		document,
		on(look, http.MethodGet, environment+"/preview", "preview",
			"Gives the SQL that a promotion or a rollback would run", s.deploying.preview),
		accepted(on(releaser, http.MethodPost, environment+"/promotions", "promote",
			"Asks the gate, and begins a deployment forward", s.deploying.promote)),
		accepted(on(releaser, http.MethodPost, environment+"/rollbacks", "rollback",
			"Begins a deployment back", s.deploying.rollback)),
		accepted(on(releaser, http.MethodPost, environment+"/rebuilds", "rebuild",
			"Empties a disposable environment and applies every step", s.deploying.rebuild)),
		on(look, http.MethodGet, environment+"/steps/{step}/evidence", "getEvidence",
			"Says what the target shows of a step, reading only", s.repairs.evidence),
		accepted(on(
			building,
			http.MethodPost,
			environment+"/rehearsals",
			"rehearse",
			"Begins to try what a promotion would apply on a copy of the target: forward, back, and forward again",
			s.deploying.rehearse,
		)),
		on(look, http.MethodGet, environment+"/rehearsals", "listRehearsals",
			"Lists rehearsals, newest first", s.deploying.rehearsals),
		on(look, http.MethodGet, environment+"/rehearsals/{rehearsal}", "getRehearsal",
			"Gives one rehearsal", s.deploying.rehearsal),
		rehearsalEvents,
		accepted(on(building, http.MethodPost, environment+"/rehearsals/{rehearsal}/cancellation", "cancelRehearsal",
			"Cancels a rehearsal: its copy goes, and it has no result", s.deploying.cancelRehearsal)),
		on(approver, http.MethodPost, environment+"/approvals", "approve",
			"Approves of a release, as its plan is now", s.gates.approve),
		on(approver, http.MethodPost, environment+"/approvals/withdrawal", "withdrawApproval",
			"Takes one's own approvals of a release back", s.gates.withdrawApproval),
		on(look, http.MethodGet, lane+"/scheduled", "listScheduled",
			"Lists the promotions that wait for their time, and what became of others", s.deploying.scheduled),
		on(releaser, http.MethodDelete, environment+"/scheduled/{scheduled}", "dropScheduled",
			"Takes a scheduled promotion back", s.deploying.dropScheduled),
		on(keeper, http.MethodPost, environment+"/waivers", "waive",
			"Lets a check's hold pass once, for one deployment", s.gates.waive),
		on(keeper, http.MethodPost, environment+"/attestations", "attest",
			"Records steps as run by hand", s.repairs.attest),
		on(mayFreeze, http.MethodPost, environment+"/freezes", "freeze",
			"Forbids promotions for a time", s.gates.freeze),
		on(mayThaw, http.MethodPost, environment+"/thaw", "thaw",
			"Ends all freezes, also those to come", s.gates.thaw),
		on(mayReport, http.MethodPost, environment+"/backups", "reportBackup",
			"Takes the report of a backup, for gates that ask for a fresh one", s.gates.backup),
		on(keeper, http.MethodPost, environment+"/baselines", "baseline",
			"Records that an existing database contains every step up to a number", s.repairs.baseline),
		leaves(on(building, http.MethodPost, lane+"/drafts", "draft",
			"Writes steps from a schema or from a difference, and proves them in a scratch database", s.schemas.draft)),
		on(look, http.MethodGet, environment+"/schemas", "listSchemas",
			"Lists the points of an environment's history whose schema was kept", s.schemas.known),
		on(look, http.MethodGet, environment+"/map", "getMap",
			"Lays the tables and foreign keys out, of now or of what a deployment left", s.schemas.schemaMap),
		picture,
		on(look, http.MethodGet, environment+"/drift", "getDrift",
			"Says how a target's schema differs from what the last deployment left", s.schemas.drift),
		on(look, http.MethodGet, environment+"/effects", "listEffects",
			"Lists what the deployments of an environment did to its schema, step by step", s.schemas.effects),
		on(keeper, http.MethodPost, environment+"/acceptances", "acceptDrift",
			"Says that a schema is right as it is, drift and all", s.schemas.accept),
		on(look, http.MethodGet, environment+"/adoption", "getAdoption",
			"Says what is found in a target beside what was known of it", s.repairs.adoption),
		on(keeper, http.MethodPost, environment+"/adoptions", "adopt",
			"Takes over what is found in a target, history and schema, after a restore or a move", s.repairs.adopt),
		on(keeper, http.MethodPost, environment+"/amendments", "amend",
			"Records that an edited step's new text is right", s.repairs.amend),
		on(keeper, http.MethodPost, environment+"/settlements", "settle",
			"Records what became of a step in doubt", s.repairs.settle),
		on(look, http.MethodGet, "/api/v1/fleet-deployments", "listFleetDeployments",
			"Lists deployments to fleets, newest first", s.deploying.fleetDeployments),
		fleetDeployment,
		accepted(on(releaser, http.MethodPost, "/api/v1/fleet-deployments/{fleet}/pause", "pauseFleet",
			"Has no further target begin until it is resumed; those under way go on", s.deploying.pauseFleet)),
		accepted(on(releaser, http.MethodPost, "/api/v1/fleet-deployments/{fleet}/resumption", "resumeFleet",
			"Lets a paused deployment to a fleet go on", s.deploying.resumeFleet)),
		accepted(on(releaser, http.MethodPost, "/api/v1/fleet-deployments/{fleet}/cancellation", "cancelFleet",
			"Cancels the deployments of a fleet's targets that are under way, and begins no further one",
			s.deploying.cancelFleet)),
		on(keeper, http.MethodPut, environment+"/aside", "setAside",
			"Has deployments to a fleet, and gates, pass over one target", s.gates.setAside),
		on(keeper, http.MethodDelete, environment+"/aside", "takeBack",
			"Has them ask for a target again that was set aside", s.gates.takeBack),
		on(look, http.MethodGet, "/api/v1/deployments", "listDeployments",
			"Lists deployments, newest first", s.deploying.deployments),
		on(look, http.MethodGet, "/api/v1/deployments/{id}", "getDeployment",
			"Gives one deployment", s.deploying.deployment),
		events,
		on(look, http.MethodGet, "/api/v1/deployments/{id}/footprints", "getFootprints",
			"Says what each step of a deployment did to its surroundings, beside what was rehearsed", s.deploying.footprints),
		accepted(on(
			releaser,
			http.MethodPost,
			"/api/v1/deployments/{id}/cancellation",
			"cancel",
			"Cancels a running deployment: its statement is cancelled, its step rolled back, and what was applied before stays",
			s.deploying.cancel,
		)),
	}
}

func (s *Service) route() {
	endpoints := s.endpoints()
	document := sync.OnceValues(
		func() ([]byte, error) { return describe(endpoints, s.Version) },
	) // made once it is asked for
	s.app.Use(number, bodies, s.observe, s.secure)
	s.app.Get("/healthz", func(c fiber.Ctx) error { return c.SendString("ok\n") })
	s.app.Get("/readyz", s.ready)
	looking := s.identities.authorize(endpoint{id: "getDocument", need: access.Looking})
	s.app.Get(
		"/metrics",
		s.identities.authorize(endpoint{id: "getMetrics", need: access.LookingAtAll}),
		adaptor.HTTPHandler(promhttp.HandlerFor(s.metrics.registry,
			promhttp.HandlerOpts{EnableOpenMetrics: true})),
	)
	s.app.Get("/api/openapi.json", looking, func(c fiber.Ctx) error {
		text, err := document()
		if err != nil {
			return err
		}
		c.Set(fiber.HeaderContentType, fiber.MIMEApplicationJSON)
		return c.Send(text)
	})
	for _, e := range endpoints {
		handlers := []any{e.handle}
		if !e.uploads {
			handlers = []any{limited, e.handle}
		}
		switch {
		case e.streams: // which have an end of their own
		case e.method == http.MethodGet:
			handlers = append([]any{attended, bounded}, handlers...)
		case e.leaves:
			handlers = append([]any{attended}, handlers...)
		}
		if e.proof {
			handlers = append([]any{s.identities.proven}, handlers...)
		}
		if !e.open {
			handlers = append([]any{s.identities.authorize(e)}, handlers...)
		}
		s.app.Add([]string{e.method}, e.fiberPath(), handlers[0], handlers[1:]...)
	}
	s.app.Use("/api", func(c fiber.Ctx) error {
		return notFound("resource", c.Path(), by("see /api/openapi.json"))
	})
	s.app.Get("/*", s.console)
}

// bounded gives a request that only reads a deadline.
func bounded(c fiber.Ctx) error {
	ctx, cancel := context.WithTimeout(c.Context(), readPatience)
	defer cancel()
	c.SetContext(ctx)
	return c.Next()
}

// policy is what the console's pages may load, and who may hold them. Its parts
// stand in files; only what the interface library makes while it runs is a style
// within the page, and carries the page's nonce.
const policy = "default-src 'none'; script-src 'self'; connect-src 'self'; img-src 'self' data:; font-src 'self'; " +
	"style-src 'self' 'nonce-%[1]s'; base-uri 'none'; form-action 'self'; frame-ancestors 'none'"

// secure sets the headers that keep other sites' pages out, and answers out of
// caches.
func (s *Service) secure(c fiber.Ctx) error {
	c.Set("X-Content-Type-Options", "nosniff")
	c.Set("Referrer-Policy", "no-referrer")
	c.Set("Content-Security-Policy", "default-src 'none'; frame-ancestors 'none'")
	c.Set(fiber.HeaderCacheControl, "no-store")
	if s.overTLS(c) {
		c.Set("Strict-Transport-Security", "max-age=31536000")
	}
	return c.Next()
}

func (s *Service) ready(c fiber.Ctx) error {
	if err := s.Records.Ping(c.Context()); err != nil {
		return c.Status(http.StatusServiceUnavailable).SendString("the records cannot be reached\n")
	}
	return c.SendString("ok\n")
}

// Document is the OpenAPI 3.1 document of the API, as JSON.
func Document(version string) ([]byte, error) {
	return describe((&Service{}).endpoints(), version)
}
