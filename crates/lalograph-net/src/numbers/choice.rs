//! Settings with a fixed list of named values: one enum that a plan file, a command line and the network all use.

/// A setting with a fixed list of named values, made by [`choice!`](crate::choice).
pub trait Choice: Copy + PartialEq + Send + Sync + 'static {
    /// All values, in the order in which they are listed for people.
    const ALL: &'static [Self];

    /// The value's name in plan files.
    fn name(self) -> &'static str;

    /// Meaning of the value, in one line.
    fn about(self) -> &'static str;

    /// The value of this name.
    fn named(name: &str) -> Option<Self> {
        Self::ALL.iter().copied().find(|value| value.name() == name)
    }
}

/// Defines an enum whose values have names: for each variant its documentation, which is also shown to people, and its name in
/// plan files. The value after `=` is the default.
///
/// ```
/// use lalograph_net::numbers::choice::Choice;
///
/// lalograph_net::choice! {
///     /// How something moves.
///     pub enum Gait = Walk {
///         /// Step by step.
///         Walk = "walk",
///         /// In leaps.
///         LongJump = "long_jump",
///     }
/// }
///
/// assert_eq!(Gait::named("long_jump"), Some(Gait::LongJump));
/// assert_eq!(Gait::default().about(), "Step by step.");
/// ```
#[macro_export]
macro_rules! choice {
    (
        $(#[doc = $doc:literal])*
        $visibility:vis enum $name:ident = $default:ident {
            $( $(#[doc = $about:literal])+ $variant:ident = $text:literal ),+ $(,)?
        }
    ) => {
        $(#[doc = $doc])*
        #[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
        $visibility enum $name {
            $( $(#[doc = $about])+ $variant, )+
        }

        impl Default for $name {
            fn default() -> Self {
                Self::$default
            }
        }

        impl $crate::numbers::choice::Choice for $name {
            const ALL: &'static [Self] = &[$( Self::$variant ),+];

            fn name(self) -> &'static str {
                match self {
                    $( Self::$variant => $text, )+
                }
            }

            fn about(self) -> &'static str {
                match self {
                    $( Self::$variant => concat!($( $about ),+).trim_ascii_start(), )+
                }
            }
        }

        impl ::serde::Serialize for $name {
            fn serialize<S: ::serde::Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
                serializer.serialize_str($crate::numbers::choice::Choice::name(*self))
            }
        }

        impl<'de> ::serde::Deserialize<'de> for $name {
            fn deserialize<D: ::serde::Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
                const NAMES: &[&str] = &[$( $text ),+];
                let name = <String as ::serde::Deserialize>::deserialize(deserializer)?;
                <Self as $crate::numbers::choice::Choice>::named(&name)
                    .ok_or_else(|| ::serde::de::Error::unknown_variant(&name, NAMES))
            }
        }
    };
}
