use num_bigint::BigUint;

/// Least bits of an RSA key (NIST SP 800-57 part 1, 128-bit strength).
const LEAST_RSA: u32 = 3072;
/// Most bits of an RSA key: checking a signature of a longer one costs more than a stranger may ask for.
const MOST_RSA: u32 = 16_384;
/// Rounds of Fermat's method that a modulus must stand (CVE-2022-26320: two primes next to each other fall in the first).
const FERMAT_ROUNDS: u32 = 100;
/// Primes below this must not divide a modulus.
const SMALL_PRIMES_BELOW: u32 = 2000;
/// Primes by which keys of CVE-2017-15361 are told: of each, their modulus is a power of 65537.
const ROCA_PRIMES_UP_TO: u32 = 167;

/// What kind of SSH key, as far as its strength goes.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum KeyKind<'a> {
    /// Ed25519; the point.
    Ed25519(&'a [u8; 32]),
    /// ECDSA over a NIST curve.
    Ecdsa,
    /// On a FIDO authenticator (`sk-…`).
    Hardware,
    /// RSA: modulus and exponent, most significant byte first.
    Rsa {
        /// Modulus.
        modulus: &'a [u8],
        /// Public exponent.
        exponent: &'a [u8],
    },
    /// DSA.
    Dsa,
    /// Anything else.
    Other,
}

/// Why a key is refused.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
pub enum KeyFault {
    /// DSA keys have 1,024 bits.
    #[error("DSA keys are too weak: use Ed25519")]
    Dsa,
    /// RSA under 3,072 bits (NIST SP 800-57 part 1, 128-bit strength).
    #[error("an RSA key of {0} bits is too short: use Ed25519, or RSA with 3,072 bits")]
    ShortRsa(u32),
    /// RSA beyond what can be checked cheaply.
    #[error("an RSA key of {0} bits is longer than is taken: use Ed25519")]
    LongRsa(u32),
    /// An exponent outside of what FIPS 186-5 section A.1.1 allows.
    #[error("the RSA exponent is not one that is safe: use Ed25519")]
    Exponent,
    /// The modulus falls to a method that takes seconds.
    #[error("this RSA key can be broken ({0}): make a new one, with Ed25519")]
    Broken(&'static str),
    /// A point of small order signs anything.
    #[error("this is no real Ed25519 key: anybody could sign with it")]
    SmallOrder,
    /// The administrator's list of keys that are known to others.
    #[error("this key is on the list of keys that are known to others: make a new one")]
    Listed,
    /// A kind that is not known.
    #[error("this kind of key is not known: use Ed25519")]
    Unknown,
}

/// Whether a key is strong enough to be registered.
///
/// # Errors
/// Says why not, and what to use instead.
pub fn check_key(kind: KeyKind<'_>) -> Result<(), KeyFault> {
    match kind {
        KeyKind::Ecdsa | KeyKind::Hardware => Ok(()),
        KeyKind::Ed25519(point) => match ed25519_dalek::VerifyingKey::from_bytes(point) {
            Ok(key) if !key.is_weak() => Ok(()),
            Ok(_) | Err(_) => Err(KeyFault::SmallOrder),
        },
        KeyKind::Rsa { modulus, exponent } => check_rsa(&BigUint::from_bytes_be(modulus), &BigUint::from_bytes_be(exponent)),
        KeyKind::Dsa => Err(KeyFault::Dsa),
        KeyKind::Other => Err(KeyFault::Unknown),
    }
}

fn check_rsa(modulus: &BigUint, exponent: &BigUint) -> Result<(), KeyFault> {
    let bits = u32::try_from(modulus.bits()).unwrap_or(u32::MAX);
    if bits < LEAST_RSA {
        return Err(KeyFault::ShortRsa(bits));
    }
    if bits > MOST_RSA {
        return Err(KeyFault::LongRsa(bits));
    }
    if *exponent < BigUint::from(65_537u32) || exponent.bits() > 256 || !exponent.bit(0) {
        return Err(KeyFault::Exponent);
    }
    if primes(SMALL_PRIMES_BELOW).any(|p| modulus % p == BigUint::ZERO) {
        return Err(KeyFault::Broken("it has a small factor"));
    }
    if primes(ROCA_PRIMES_UP_TO + 1).skip(1).all(|p| is_power(u64::try_from(modulus % p).unwrap_or(0), 65_537, u64::from(p))) {
        return Err(KeyFault::Broken("CVE-2017-15361"));
    }
    if primes_are_close(modulus) {
        return Err(KeyFault::Broken("CVE-2022-26320: its primes are next to each other"));
    }
    Ok(())
}

fn primes(below: u32) -> impl Iterator<Item = u32> {
    (2..below).filter(|n| (2..).take_while(|d| d * d <= *n).all(|d| n % d != 0))
}

/// Whether `n` is a power of `base` modulo `p`.
fn is_power(n: u64, base: u64, p: u64) -> bool {
    let mut power = 1;
    for _ in 0..p {
        if power == n {
            return true;
        }
        power = power * (base % p) % p;
    }
    false
}

/// Fermat's method: a number that is the difference of two squares close to its root.
fn primes_are_close(n: &BigUint) -> bool {
    let root = n.sqrt();
    (1..=FERMAT_ROUNDS).any(|i| {
        let a = &root + i;
        let rest = &a * &a - n;
        let b = rest.sqrt();
        &b * &b == rest
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    const F4: [u8; 3] = [1, 0, 1];

    fn rsa(n: &BigUint) -> Result<(), KeyFault> {
        check_key(KeyKind::Rsa { modulus: &n.to_bytes_be(), exponent: &F4 })
    }

    /// An odd number of so many bits that small primes do not divide, nobody's modulus.
    fn odd(bits: u64) -> BigUint {
        let mut n =
            (BigUint::from(3u32).pow(2 * u32::try_from(bits).unwrap()) >> (2u64 * bits * 1_585 / 1_000 - bits)) | BigUint::from(1u32);
        n = (n % (BigUint::from(1u32) << bits)) | (BigUint::from(1u32) << (bits - 1));
        without_small_factors(n)
    }

    fn without_small_factors(mut n: BigUint) -> BigUint {
        while primes(SMALL_PRIMES_BELOW).any(|p| &n % p == BigUint::ZERO) {
            n += 2u32;
        }
        n
    }

    #[test]
    fn rsa_needs_3072_bits_and_no_more_than_can_be_checked() {
        assert_eq!(rsa(&odd(3072)), Ok(()));
        assert_eq!(rsa(&odd(3071)), Err(KeyFault::ShortRsa(3071)));
        assert_eq!(rsa(&odd(16_385)), Err(KeyFault::LongRsa(16_385)));
    }

    #[test]
    fn moduli_that_fall_in_seconds_are_refused() {
        let close = odd(1600);
        assert!(matches!(rsa(&(&close * without_small_factors(&close + 2u32))), Err(KeyFault::Broken(why)) if why.contains("26320")));
        assert!(matches!(rsa(&(odd(3072) * 3u32)), Err(KeyFault::Broken("it has a small factor"))));
        // Made as the faulty library made its primes: k·M + 65537^a mod M, M the product of the first primes.
        let m: BigUint = primes(168).map(BigUint::from).product();
        let prime_like = |a: u32| {
            let power = BigUint::from(65_537u32).modpow(&a.into(), &m);
            let mut made = (1u32..).map(|k| &m * ((BigUint::from(1u32) << (1600 - m.bits())) + k) + &power);
            made.find(|n| primes(SMALL_PRIMES_BELOW).all(|p| n % p != BigUint::ZERO)).unwrap()
        };
        // The second is larger by far, so that they are not next to each other.
        let n = prime_like(911) * (prime_like(77) + (&m << 700u32));
        assert_eq!(rsa(&n), Err(KeyFault::Broken("CVE-2017-15361")));
    }

    #[test]
    fn exponents_are_odd_and_not_small() {
        for exponent in [&[3u8][..], &[1, 0, 0], &[0; 3]] {
            assert_eq!(check_key(KeyKind::Rsa { modulus: &odd(3072).to_bytes_be(), exponent }), Err(KeyFault::Exponent), "{exponent:?}");
        }
    }

    #[test]
    fn an_ed25519_key_is_a_real_one() {
        let real = ed25519_dalek::SigningKey::from_bytes(&[7; 32]).verifying_key().to_bytes();
        assert_eq!(check_key(KeyKind::Ed25519(&real)), Ok(()));
        let mut one = [0; 32];
        one[0] = 1;
        for point in [[0; 32], one] {
            assert_eq!(check_key(KeyKind::Ed25519(&point)), Err(KeyFault::SmallOrder));
        }
        assert_eq!(check_key(KeyKind::Dsa), Err(KeyFault::Dsa));
        assert_eq!(check_key(KeyKind::Other), Err(KeyFault::Unknown));
    }
}
