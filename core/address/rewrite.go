package address

import "strings"

// A Rule replaces the beginning of a URL, as git's url.<base>.insteadOf and
// url.<base>.pushInsteadOf do.
type Rule struct {
	Base     string // what is put in place
	Prefix   string // what it replaces
	PushOnly bool   // from pushInsteadOf
	Origin   string // where the rule stands
}

// Rewrite applies git's rules to a remote's URL: the longest matching prefix wins, and of
// equals the first. For a push the pushInsteadOf rules are tried before all others, unless
// the URL is the remote's own push URL ("insteadOf" and "pushInsteadOf" in git-config(1)).
// The rule is nil when none matched.
func Rewrite(text string, rules []Rule, push, ownPushURL bool) (string, *Rule) {
	if push && !ownPushURL {
		if rule := longest(text, rules, true); rule != nil {
			return rule.Base + text[len(rule.Prefix):], rule
		}
	}
	if rule := longest(text, rules, false); rule != nil {
		return rule.Base + text[len(rule.Prefix):], rule
	}
	return text, nil
}

func longest(text string, rules []Rule, pushOnly bool) *Rule {
	var best *Rule
	for i, rule := range rules {
		if rule.PushOnly == pushOnly && strings.HasPrefix(text, rule.Prefix) &&
			(best == nil || len(rule.Prefix) > len(best.Prefix)) {
			best = &rules[i]
		}
	}
	return best
}
