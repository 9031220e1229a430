use zeroize::Zeroizing;

/// Recovery codes that are made at a time.
pub const RECOVERY_CODES: usize = 10;
/// Letters and digits that cannot be taken for one another; 32 of them, so that five bits make one.
const DIGITS: &[u8; 32] = b"23456789abcdefghjkmnpqrstuvwxyzo";
/// Characters of a code: 60 bits, so that guessing is hopeless even where the keyed hashes leak without their key.
const LENGTH: usize = 12;

/// A recovery code as its owner reads it, `xxxx-xxxx-xxxx`; wiped when dropped.
pub fn recovery_code(chance: u64) -> Zeroizing<String> {
    let mut text = Zeroizing::new(String::with_capacity(LENGTH + 2));
    for i in 0..LENGTH {
        if i > 0 && i % 4 == 0 {
            text.push('-');
        }
        let digit = (chance >> (5 * i)) & 31;
        text.push(DIGITS.get(usize::try_from(digit).unwrap_or(0)).map_or('2', |b| char::from(*b)));
    }
    text
}

/// What somebody typed as one is compared in: small letters, without blanks and hyphens, a zero for an `o`, an `i` or `l` for
/// nothing. None where it cannot be a recovery code, so that a mistyped one-time code is not looked up as one.
pub fn recovery_form(typed: &str) -> Option<Zeroizing<String>> {
    let mut form = Zeroizing::new(String::with_capacity(LENGTH));
    for c in typed.trim().chars().take(4 * LENGTH).filter(|c| !c.is_whitespace() && *c != '-') {
        let c = if c == '0' { 'o' } else { c.to_ascii_lowercase() };
        if form.len() == LENGTH || !c.is_ascii() || !DIGITS.contains(&(c as u8)) {
            return None;
        }
        form.push(c);
    }
    (form.len() == LENGTH).then_some(form)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_shown_is_what_is_compared_however_it_is_typed() {
        for chance in [0, 1, u64::MAX, 0x0123_4567_89ab_cdef] {
            let shown = recovery_code(chance);
            assert_eq!(shown.len(), 14);
            let form = recovery_form(&shown).unwrap();
            assert_eq!(recovery_form(&shown.to_uppercase().replace('-', " ")).as_deref(), Some(&*form));
            assert_eq!(recovery_form(&shown.replace('o', "0")).as_deref(), Some(&*form));
        }
        assert_ne!(*recovery_code(1), *recovery_code(1 << 59));
    }

    #[test]
    fn what_cannot_be_one_is_not_looked_up() {
        for odd in ["", "123456", "2222-2222-222", "2222-2222-22222", "2222-2222-222i", "2222-2222-222\u{e9}"] {
            assert!(recovery_form(odd).is_none(), "{odd}");
        }
    }
}
