//! Which version is active in a shell, by which rule, and what that rule overrode.

use std::path::PathBuf;

use crate::install::Pick;

/// The rules, strongest first.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, serde::Serialize)]
#[cfg_attr(feature = "schemas", derive(schemars::JsonSchema))]
#[serde(rename_all = "lowercase")]
pub enum Rule {
    /// A switch in this shell, or in the shell that started it.
    Switch,
    /// What the project requires.
    #[serde(rename = "requirement")]
    Requirement,
    /// What new shells get.
    Default,
    /// The system's own copy.
    System,
}

/// What one rule asks for.
#[derive(Clone, Debug, PartialEq, Eq, serde::Serialize)]
#[cfg_attr(feature = "schemas", derive(schemars::JsonSchema))]
pub struct Claim {
    /// The rule.
    pub rule: Rule,
    /// The selector or key it asks for.
    pub selector: String,
    /// What meets it; nothing where the shelf has none.
    pub met_by: Option<Pick>,
    /// The file and line that ask for it, where a file does.
    pub place: Option<Place>,
}

/// A line in a file.
#[derive(Clone, Debug, PartialEq, Eq, serde::Serialize)]
#[cfg_attr(feature = "schemas", derive(schemars::JsonSchema))]
pub struct Place {
    /// The file.
    pub file: PathBuf,
    /// The line, counted from 1.
    #[serde(rename = "line_number")]
    pub line: usize,
}

/// The claims, decided.
#[derive(Clone, Debug, Default, PartialEq, Eq, serde::Serialize)]
#[cfg_attr(feature = "schemas", derive(schemars::JsonSchema))]
pub struct Activation {
    /// The claim that holds; nothing where no rule offers a version.
    pub active: Option<Claim>,
    /// Weaker claims that would have held.
    pub overrode: Vec<Claim>,
    /// Stronger claims that nothing on the shelf meets.
    pub unmet: Vec<Claim>,
    /// The requirement, if the person was asked whether to follow it and said no.
    pub declined: Option<Claim>,
}

/// Decides between `claims`: the strongest rule that is met holds.
pub fn decide(mut claims: Vec<Claim>) -> Activation {
    claims.sort_by_key(|claim| claim.rule);
    let mut activation = Activation::default();
    for claim in claims {
        match (&activation.active, &claim.met_by) {
            (None, Some(_)) => activation.active = Some(claim),
            (None, None) => activation.unmet.push(claim),
            // Asking for what holds anyway is not being overridden.
            (Some(active), Some(_))
                if active.met_by == claim.met_by && claim.rule != Rule::Requirement => {}
            (Some(_), _) => activation.overrode.push(claim),
        }
    }
    activation
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    fn claim(rule: Rule, met_by: Option<&str>) -> Claim {
        Claim {
            rule,
            selector: "8".into(),
            met_by: met_by.map(|version| format!("{rule:?}-{version}").parse().unwrap()),
            place: None,
        }
    }

    #[rstest]
    #[case(&[Rule::System, Rule::Default, Rule::Requirement, Rule::Switch], &[], Some(Rule::Switch))]
    #[case(&[Rule::System, Rule::Default, Rule::Requirement], &[], Some(Rule::Requirement))]
    #[case(&[Rule::Default, Rule::Requirement], &[Rule::Requirement], Some(Rule::Default))]
    #[case(&[Rule::System], &[], Some(Rule::System))]
    #[case(&[Rule::Default], &[Rule::Default], None)]
    #[case(&[], &[], None)]
    fn the_strongest_met_claim_holds(
        #[case] rules: &[Rule],
        #[case] unmet: &[Rule],
        #[case] expected: Option<Rule>,
    ) {
        let claims = rules
            .iter()
            .map(|rule| claim(*rule, (!unmet.contains(rule)).then_some("8.3.1")))
            .collect();
        let activation = decide(claims);
        assert_eq!(activation.active.map(|c| c.rule), expected);
        let rules_of = |claims: &[Claim]| claims.iter().map(|c| c.rule).collect::<Vec<_>>();
        assert_eq!(rules_of(&activation.unmet), unmet);
        let others = rules.len() - unmet.len() - usize::from(expected.is_some());
        assert_eq!(activation.overrode.len(), others);
    }
}
