//! Holds no code: it exists so that cargo fetches the crate that is patched.
