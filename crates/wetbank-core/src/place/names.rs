//! Which names a place can have.

/// Which names are possible in a place, besides what is possible nowhere.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Names {
    /// Any bytes.
    Bytes,
    /// Any bytes without a line break.
    OneLine,
    /// Any text in Unicode without control characters.
    Unicode,
    /// What a network share takes: Unicode without control characters and `" * / : < > ? \ |`,
    /// not ending in a dot or a blank, and no name of a device.
    Share,
}

/// Whether a share can show a name.
pub fn is_share_name(name: &str) -> bool {
    !name.ends_with(['.', ' ']) && !name.chars().any(|c| c.is_control() || "\"*/:<>?\\|".contains(c))
}

/// Names that mean a device to many who use a network share, with any ending.
fn is_device(name: &str) -> bool {
    let stem = name.split('.').next().unwrap_or_default().trim_end().to_ascii_lowercase();
    match stem.as_str() {
        "con" | "prn" | "aux" | "nul" => true,
        stem => stem
            .strip_prefix("com")
            .or_else(|| stem.strip_prefix("lpt"))
            .is_some_and(|number| matches!(number.as_bytes(), [b'1'..=b'9'])),
    }
}

impl Names {
    /// How many bytes a name has at most.
    pub fn longest(self) -> usize {
        match self {
            // All of a path counts there.
            Self::Unicode => 1023,
            Self::Bytes | Self::OneLine | Self::Share => 255,
        }
    }

    /// A name as near to this one as is possible here.
    pub fn fit(self, name: &[u8]) -> Vec<u8> {
        if self.take(name) && name.len() <= self.longest() {
            return name.to_vec();
        }
        let text = String::from_utf8_lossy(name);
        let wrong = |c: char| match self {
            Self::Bytes | Self::OneLine => c == '\n' || c == '\r',
            Self::Unicode => c.is_control() || c == char::REPLACEMENT_CHARACTER,
            Self::Share => c.is_control() || c == char::REPLACEMENT_CHARACTER || "\"*/:<>?\\|".contains(c),
        };
        let mut fitted: String = text.chars().map(|c| if wrong(c) { '_' } else { c }).collect();
        if self == Self::Share {
            let end = fitted.trim_end_matches(['.', ' ']).len();
            let ends = "_".repeat(fitted.len() - end);
            fitted.replace_range(end.., &ends);
            if is_device(&fitted) {
                fitted.insert(fitted.find('.').unwrap_or(fitted.len()), '_');
            }
        }
        // The ending says what it is: what is too long is cut before it.
        let dot = fitted.rfind('.').filter(|dot| *dot > 0 && fitted.len() - dot <= 20).unwrap_or(fitted.len());
        let (stem, ending) = fitted.split_at(dot);
        let mut room = self.longest().saturating_sub(ending.len()).min(stem.len());
        while !stem.is_char_boundary(room) {
            room -= 1;
        }
        format!("{}{ending}", &stem[..room]).into_bytes()
    }

    /// Whether a name is possible.
    pub fn take(self, name: &[u8]) -> bool {
        let text = std::str::from_utf8(name);
        match self {
            Self::Bytes => true,
            Self::OneLine => !name.contains(&b'\n') && !name.contains(&b'\r'),
            Self::Unicode => text.is_ok_and(|text| !text.chars().any(char::is_control)),
            Self::Share => text.is_ok_and(|text| is_share_name(text) && !is_device(text)),
        }
    }

    /// What is possible, in words.
    pub fn words(self) -> &'static str {
        match self {
            Self::Bytes => "it takes any name",
            Self::OneLine => "it takes no line break in a name",
            Self::Unicode => "it takes names in Unicode without control characters",
            Self::Share => {
                "no share takes control characters or any of \" * / : < > ? \\ | in a name, a dot or blank at its end, or the name of a device (con, prn, aux, nul, com1, lpt1, …)"
            }
        }
    }

    /// Why a name is not possible here, if it is not.
    pub fn refuse(self, name: &[u8]) -> Option<String> {
        match name.len() {
            _ if !self.take(name) => Some(self.words().to_owned()),
            length if length > self.longest() => {
                Some(format!("the name has {length} bytes, and {} are possible there", self.longest()))
            }
            _ => None,
        }
    }
}
