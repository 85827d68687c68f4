//! Values of the cluster file that are one word of a few.

/// Makes of words of the cluster file the values of a key.
macro_rules! words {
    ($(#[$doc:meta])* $name:ident { $($(#[$value_doc:meta])* $value:ident = $word:literal),* $(,)? }) => {
        $(#[$doc])*
        #[derive(Clone, Copy, Debug, Default, PartialEq, Eq, serde::Serialize)]
        #[serde(rename_all = "kebab-case")]
        pub enum $name { $($(#[$value_doc])* $value),* }

        impl $name {
            /// Reads the word used in the cluster file.
            ///
            /// # Errors
            /// When it is none of them.
            pub fn new(text: &str) -> Result<Self, crate::cluster::NameError> {
                match text {
                    $($word => Ok(Self::$value),)*
                    _ => Err(crate::cluster::NameError(format!("one of {}", [$($word),*].join(", ")))),
                }
            }
        }
    };
}

pub(super) use words;
