//! Why a request was refused, as a number that programs can tell apart: `body.error.id` of a response (DAP, `ErrorResponse`).

macro_rules! codes {
    ($($(#[doc = $doc:literal])* $variant:ident = $id:literal,)*) => {
        /// Why a request was refused.
        #[derive(Debug, Clone, Copy, PartialEq, Eq)]
        #[non_exhaustive]
        pub enum ErrorCode {
            $($(#[doc = $doc])* $variant,)*
        }

        impl ErrorCode {
            /// All of them.
            pub const ALL: &[Self] = &[$(Self::$variant),*];

            /// The number.
            #[must_use]
            pub fn id(self) -> i64 {
                match self {
                    $(Self::$variant => $id,)*
                }
            }

            /// What it says, in a sentence.
            #[must_use]
            pub fn meaning(self) -> &'static str {
                match self {
                    $(Self::$variant => concat!($($doc),*).trim_ascii(),)*
                }
            }
        }
    };
}

codes! {
    /// What has no number of its own.
    Other = 1,
    /// The request, or its arguments, are not understood.
    NotUnderstood = 2,
    /// Another request must come first.
    TooEarly = 3,
    /// The token is missing, or is another one.
    NotLetIn = 4,
    /// The client only looks.
    Observes = 5,
    /// As many are there as there can be.
    Full = 6,
    /// The context, or the value, is not there any more.
    Gone = 7,
    /// The context runs, or is not stopped itself.
    NotStopped = 8,
    /// The context has not come to a point where it can be looked at.
    Busy = 9,
    /// It was given up.
    Cancelled = 10,
    /// The text cannot be read.
    Syntax = 11,
    /// The script raised an error, or took too much, while it was evaluated.
    Raised = 12,
    /// A name is nowhere to be seen.
    NotInScope = 13,
    /// A value cannot be changed, or not to that.
    NotAssignable = 14,
    /// The host does not show or take it.
    Host = 15,
    /// A fault of this product.
    Fault = 16,
}

impl ErrorCode {
    /// The one with this number; [`ErrorCode::Other`] for any that is not known.
    #[must_use]
    pub fn of(id: i64) -> Self {
        Self::ALL.iter().copied().find(|code| code.id() == id).unwrap_or(Self::Other)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn numbers_are_told_apart() {
        for code in ErrorCode::ALL {
            assert_eq!(ErrorCode::of(code.id()), *code);
        }
        assert_eq!(ErrorCode::of(-7), ErrorCode::Other);
    }
}
