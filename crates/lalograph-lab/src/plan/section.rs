//! Sections of the plan: each setting is stated once, with its documentation, type and default.

/// A section of the plan as it documents itself.
pub(crate) trait Documented {
    /// Its name in brackets.
    const NAME: &'static str;
    /// Description.
    const ABOUT: &'static str;
    /// The keys of its settings, each with the lines of its documentation.
    const SETTINGS: &'static [(&'static str, &'static [&'static str])];
}

/// Defines a section: its struct as it is read and written, its defaults, and its documentation for the reference page.
macro_rules! section {
    (
        #[doc = $about:literal]
        pub struct $name:ident in $section:literal {
            $(
                $(#[doc = $doc:literal])+
                $(#[serde $serde:tt])?
                pub $key:ident: $type:ty = $default:expr,
            )+
        }
    ) => {
        #[doc = concat!(" `[", $section, "]`:", $about)]
        #[derive(Debug, Clone, PartialEq, ::serde::Serialize, ::serde::Deserialize)]
        #[serde(default, deny_unknown_fields)]
        pub struct $name {
            $(
                $(#[doc = $doc])+
                $(#[serde $serde])?
                pub $key: $type,
            )+
        }

        impl Default for $name {
            fn default() -> Self {
                Self { $( $key: $default, )+ }
            }
        }

        impl $crate::plan::section::Documented for $name {
            const NAME: &'static str = $section;
            const ABOUT: &'static str = $about;
            const SETTINGS: &'static [(&'static str, &'static [&'static str])] =
                &[$( (stringify!($key), &[$( $doc ),+]) ),+];
        }
    };
}

pub(crate) use section;
