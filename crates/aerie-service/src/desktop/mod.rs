//! Desktops of machines: the connection to the server there, and what is shown to those who look.

mod drive;
mod picture;
mod screen;
mod tls;

pub(crate) use drive::{DesktopError, Driver, Greeted, MOST_COPIED, Order, Stream, greet};
pub(crate) use picture::{png, png_of};
pub(crate) use screen::{Screen, Shown, asked_here};
