/// Longest login name that is read: three names of 64 characters, the mark of an emergency, and two signs.
const MAX_LOGIN: usize = 194 + EMERGENCY.len();
/// What somebody adds who declares an emergency.
const EMERGENCY: &str = "+emergency";

/// What somebody asked for by the login name they gave to `ssh`.
///
/// `person+machine`, `person+account@machine`, or `person` alone for the outer step of `ssh -J`. Whoever declares an emergency adds
/// `+emergency` to one of the first two.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct LoginName {
    /// Name of the person.
    pub person: String,
    /// Machine to reach, where it is named.
    pub machine: Option<String>,
    /// Account on it, where it is named.
    pub account: Option<String>,
    /// Whether they declare an emergency.
    pub emergency: bool,
}

/// Why a login name cannot be read.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
pub enum LoginError {
    /// Too long.
    #[error("the login name is too long")]
    TooLong,
    /// A character that no name has.
    #[error("the login name has the form person+machine or person+account@machine")]
    Form,
}

impl LoginName {
    /// Reads a login name.
    ///
    /// # Errors
    /// When it does not have one of the three forms.
    pub fn parse(text: &str) -> Result<Self, LoginError> {
        if text.len() > MAX_LOGIN {
            return Err(LoginError::TooLong);
        }
        let (text, emergency) = match text.strip_suffix(EMERGENCY) {
            Some(rest) if rest.contains('+') => (rest, true),
            Some(_) | None => (text, false),
        };
        let (person, rest) = text.split_once('+').map_or((text, None), |(p, r)| (p, Some(r)));
        let (account, machine) = match rest {
            None => (None, None),
            Some(rest) => rest.rsplit_once('@').map_or((None, Some(rest)), |(a, m)| (Some(a), Some(m))),
        };
        if ![Some(person), account, machine].into_iter().flatten().all(is_name) {
            return Err(LoginError::Form);
        }
        Ok(Self { person: person.into(), machine: machine.map(Into::into), account: account.map(Into::into), emergency })
    }
}

/// Names begin with a letter, digit or underscore and have at most 64 of these, dots and hyphens.
fn is_name(name: &str) -> bool {
    let mut chars = name.chars();
    let first = chars.next().is_some_and(|c| c.is_ascii_alphanumeric() || c == '_');
    first && name.len() <= 64 && chars.all(|c| c.is_ascii_alphanumeric() || "._-".contains(c))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_three_forms_are_read_and_nothing_else() {
        let read = |t: &str| LoginName::parse(t).map(|l| (l.person, l.account, l.machine));
        let some = |s: &str| Some(s.to_string());
        assert_eq!(read("ines+dome-east"), Ok(("ines".into(), None, some("dome-east"))));
        assert_eq!(read("ines+operator@dome-east"), Ok(("ines".into(), some("operator"), some("dome-east"))));
        assert_eq!(read("ines"), Ok(("ines".into(), None, None)));
        let urgent = |t: &str| LoginName::parse(t).map(|l| (l.machine, l.emergency));
        assert_eq!(urgent("ines+dome-east+emergency"), Ok((some("dome-east"), true)));
        assert_eq!(urgent("ines+operator@dome-east+emergency"), Ok((some("dome-east"), true)));
        // A machine may be called so.
        assert_eq!(urgent("ines+emergency"), Ok((some("emergency"), false)));
        for bad in [
            "ines+dome+emergency+emergency",
            "",
            "+dome",
            "ines+",
            "ines+@dome",
            "ines+a@",
            "in es",
            "ines+-x",
            "ines+dome\n",
            "ines+dome;id",
            "+",
        ] {
            assert_eq!(read(bad), Err(LoginError::Form), "{bad:?}");
        }
    }

    #[test]
    fn length_has_a_limit() {
        let name = |n: usize| "a".repeat(n);
        assert!(LoginName::parse(&format!("{}+{}@{}", name(64), name(64), name(64))).is_ok());
        assert_eq!(LoginName::parse(&name(65)), Err(LoginError::Form));
        assert_eq!(LoginName::parse(&name(MAX_LOGIN + 1)), Err(LoginError::TooLong));
    }
}
