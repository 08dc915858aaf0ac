package view

import (
	"lockback/core/autostart"
	"lockback/core/location"
)

// effectWords say when a change counts.
var effectWords = [...]string{
	location.UnknownEffect: "", location.AtNextStart: "at the next restart",
	location.AtNextSignIn: "at the next sign-in",
	location.WithinMinute: "within a minute", location.AtNextRun: "at the next run", location.AtOnce: "at once",
	location.AtNextUse:          "at the next use",
	location.AfterNewAliases:    "after newaliases has run",
	location.AfterNewCollection: "after macOS has built its collection of extensions anew and is restarted",
}

// Effect says when a change counts; empty if that is not known.
func Effect(e location.Effect) string { return effectWords[e] }

// factNames are the names of facts of a kind.
var factNames = [...]string{
	autostart.FactDescription: "description", autostart.FactComment: "comment", autostart.FactWithoutIt: "without it",
	autostart.FactOwnSetting: "its own setting", autostart.FactKnownFrom: "known from",
	autostart.FactLooksLike: "looks like", autostart.FactUnproven: "not proved",
	autostart.FactReturns: "comes back", autostart.FactUpdates: "updates", autostart.FactMayWait: "may start later",
	autostart.FactSince: "since", autostart.FactSiblings: "also of its maker",
	autostart.FactSeenOn: "other machines", autostart.FactBusiness: "in a company",
	autostart.FactProduct: "product",
	autostart.FactMadeBy:  "made by", autostart.FactDescribedAs: "described as", autostart.FactUnchanged: "unchanged",
	autostart.FactUninstalledBy: "uninstalled by", autostart.FactSignature: "signature",
	autostart.FactSignedBy: "signed by",
	autostart.FactSignedAs: "signed as", autostart.FactSignedAt: "signed at",
}

// FactName is the name of a fact.
func FactName(f location.Fact) string {
	if name := factNames[f.Kind]; name != "" {
		return name
	}
	return f.Name
}
