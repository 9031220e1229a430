use std::collections::HashSet;
use std::sync::LazyLock;

/// Longest password that is taken (characters count, but hashing is paid for in bytes, and a stranger chooses the length).
pub const LONGEST_PASSWORD: usize = 256;
/// Shortest password that any setting may allow (SP 800-63B-4 section 3.1.1.2: 8 beside another factor).
pub const LEAST_PASSWORD: u16 = 8;

/// Passwords that everybody tries first, and the words that most bad ones are made of.
static COMMON: LazyLock<HashSet<&'static str>> =
    LazyLock::new(|| include_str!("common-passwords.txt").lines().filter(|l| !l.is_empty() && !l.starts_with('#')).collect());

/// Rows of a keyboard and the orders that everybody knows, for walks along them.
const WALKS: [&str; 8] = [
    "abcdefghijklmnopqrstuvwxyz",
    "01234567890",
    "qwertyuiop",
    "asdfghjkl",
    "zxcvbnm",
    "qwertzuiopasdfghjklyxcvbnm",
    "azertyuiopqsdfghjklmwxcvbn",
    "1qaz2wsx3edc4rfv5tgb6yhn7ujm8ik9ol0p",
];

/// Why a new password is refused.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
pub enum PasswordFault {
    /// Too short; the least number of characters.
    #[error("it has fewer than {0} characters: take a few words that do not belong together")]
    Short(u16),
    /// Too long.
    #[error("it has more than {LONGEST_PASSWORD} bytes")]
    Long,
    /// It, or what it is made of, is on the list of common passwords.
    #[error("it is one of the passwords that are guessed first")]
    Common,
    /// It is little more than a name of the person, the organisation or this service.
    #[error("it is made of your own name, your organisation's or this service's")]
    Personal,
    /// One character or a short piece over and over.
    #[error("it repeats itself")]
    Repeats,
    /// A walk along the keyboard, the alphabet or the digits.
    #[error("it follows the keyboard, the alphabet or the digits")]
    Walk,
    /// It is the one before.
    #[error("it is the password you have now")]
    Same,
}

/// Whether a new password may be set: length before composition, and nothing that is guessed first (SP 800-63B-4 section
/// 3.1.1.2). `personal` are names that it must not be made of; `least` counts characters.
///
/// # Errors
/// The first fault, which the person is told.
pub fn check_password(password: &str, personal: &[&str], least: u16) -> Result<(), PasswordFault> {
    if password.chars().count() < usize::from(least.max(LEAST_PASSWORD)) {
        return Err(PasswordFault::Short(least.max(LEAST_PASSWORD)));
    }
    if password.len() > LONGEST_PASSWORD {
        return Err(PasswordFault::Long);
    }
    let plain = plain(password);
    if repeats(&plain) {
        return Err(PasswordFault::Repeats);
    }
    if walks(&plain) {
        return Err(PasswordFault::Walk);
    }
    // What is left when digits and signs at both ends are taken off is the word that somebody chose.
    let core: String = plain.trim_matches(|c: char| !c.is_alphabetic()).to_string();
    let letters: String = unleet(&core).chars().filter(|c| c.is_alphabetic()).collect();
    if [plain.as_str(), &core, &letters].into_iter().any(|t| COMMON.contains(t)) || made_of_common(&letters) {
        return Err(PasswordFault::Common);
    }
    let rest = personal.iter().flat_map(|p| p.split(|c: char| !c.is_alphanumeric())).chain(["aerie"]).filter(|p| p.chars().count() > 2);
    let stripped = rest.fold(letters.clone(), |text, name| text.replace(&unleet(&name.to_lowercase()), ""));
    if !letters.is_empty() && stripped.chars().count() * 3 < letters.chars().count() {
        return Err(PasswordFault::Personal);
    }
    Ok(())
}

fn plain(password: &str) -> String {
    password.to_lowercase().chars().filter(|c| !c.is_whitespace()).collect()
}

/// Digits and signs that stand for letters.
fn unleet(text: &str) -> String {
    let letter = |c: char| match c {
        '0' => 'o',
        '1' | '!' | '|' => 'i',
        '3' | '€' => 'e',
        '4' | '@' => 'a',
        '5' | '$' => 's',
        '7' | '+' => 't',
        other => other,
    };
    text.chars().map(letter).collect()
}

/// Whether the letters are two or three common words in a row.
fn made_of_common(letters: &str) -> bool {
    fn cut(rest: &str, words: usize) -> bool {
        if rest.is_empty() {
            return true;
        }
        if words == 0 {
            return false;
        }
        let ends = rest.char_indices().map(|(i, c)| i + c.len_utf8()).filter(|i| *i >= 4);
        ends.filter_map(|i| rest.split_at_checked(i)).any(|(head, tail)| COMMON.contains(head) && cut(tail, words - 1))
    }
    !letters.is_empty() && cut(letters, 3)
}

/// Whether the text is a piece of at most four characters again and again.
fn repeats(text: &str) -> bool {
    let chars: Vec<char> = text.chars().collect();
    (1..=4).any(|n| chars.len() >= 2 * n && chars.iter().zip(chars.iter().skip(n)).all(|(a, b)| a == b))
}

/// Whether all but a few of the characters are steps to a neighbour.
fn walks(text: &str) -> bool {
    let chars: Vec<char> = text.chars().collect();
    let beside = |a: char, b: char| {
        WALKS.iter().any(|row| {
            let place = |c: char| row.find(c);
            place(a).zip(place(b)).is_some_and(|(i, j)| i.abs_diff(j) <= 1)
        })
    };
    let steps = chars.windows(2).filter(|w| matches!(w, [a, b] if beside(*a, *b))).count();
    chars.len() >= 4 && (steps + 1) * 5 >= chars.len() * 4
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn length_counts_and_composition_does_not() {
        let check = |p: &str| check_password(p, &["ines", "Ines Okafor", "Corvid Ridge Observatory"], 12);
        for good in ["seven grey herons", "lantern-moss-quartz", "Brombeerhecke im Regen", "\u{1f989} owl over the dome"] {
            assert_eq!(check(good), Ok(()), "{good}");
        }
        let table = [
            ("short pass1", PasswordFault::Short(12)),
            ("aaaaaaaaaaaaaa", PasswordFault::Repeats),
            ("xy12xy12xy12xy12", PasswordFault::Repeats),
            ("abcdefghijklmn", PasswordFault::Walk),
            ("qwertyuiopasdf", PasswordFault::Walk),
            ("1234567890123", PasswordFault::Walk),
            ("1qaz2wsx3edc4rfv", PasswordFault::Walk),
            ("password1234", PasswordFault::Common),
            ("P@ssw0rd!2026", PasswordFault::Common),
            ("iloveyou iloveyou", PasswordFault::Common),
            ("dragonmonkey99", PasswordFault::Common),
            ("Welcome12345678", PasswordFault::Common),
            ("InesOkafor2026", PasswordFault::Personal),
            ("observatory-ridge-1", PasswordFault::Personal),
            ("aerieaerie-ines", PasswordFault::Personal),
        ];
        for (bad, fault) in table {
            assert_eq!(check(bad), Err(fault), "{bad}");
        }
    }

    #[test]
    fn length_has_both_limits() {
        let varied =
            |n: usize| "kT9 wq2Lmz".chars().cycle().take(n).enumerate().map(|(i, c)| if i % 7 == 0 { 'v' } else { c }).collect::<String>();
        assert_eq!(check_password(&varied(12), &[], 12), Ok(()));
        assert_eq!(check_password(&varied(11), &[], 12), Err(PasswordFault::Short(12)));
        // No setting goes below what the standard asks for.
        assert_eq!(check_password(&varied(7), &[], 1), Err(PasswordFault::Short(8)));
        assert_eq!(check_password(&varied(LONGEST_PASSWORD), &[], 12), Ok(()));
        assert_eq!(check_password(&varied(LONGEST_PASSWORD + 1), &[], 12), Err(PasswordFault::Long));
    }
}
