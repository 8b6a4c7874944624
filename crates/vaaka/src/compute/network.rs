//! Network analyzers: kits, corrections of raw sweeps, reflections, networks taken apart.

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use vaaka_core::network::{
    Complex, LineReflect, Load, Offset, OnePort, Reflect, Standard, TwoPort, deembed, error_vector,
    frequency_words, line_correction, match_correction, one_port_terms, reflection, renormalized,
    renormalized_one_port, ripple, twelve_terms,
};
use vaaka_formats::read_touchstone;

use super::{Computation, Compute, positive, said};

pub fn all() -> Vec<Computation> {
    vec![
        Computation::of::<Kit>(),
        Computation::of::<OnePortCorrect>(),
        Computation::of::<TwoPortCorrect>(),
        Computation::of::<LineCorrect>(),
        Computation::of::<MatchCorrect>(),
        Computation::of::<Conversions>(),
        Computation::of::<Renormalize>(),
        Computation::of::<Read>(),
        Computation::of::<Vectors>(),
        Computation::of::<Residual>(),
        Computation::of::<Apart>(),
    ]
}

/// A complex number, real and imaginary part.
type Pair = [f64; 2];

fn complex(pairs: &[Pair]) -> Vec<Complex> {
    pairs.iter().map(|[re, im]| Complex::new(*re, *im)).collect()
}

fn pairs(values: &[Complex]) -> Vec<Pair> {
    values.iter().map(|one| [one.re, one.im]).collect()
}

/// Scattering parameters of a two-port, each as real and imaginary part at each frequency.
#[derive(Debug, Clone, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
struct Sweep {
    /// Reflection of port 1.
    s11: Vec<Pair>,
    /// From port 1 to port 2.
    s21: Vec<Pair>,
    /// From port 2 to port 1.
    s12: Vec<Pair>,
    /// Reflection of port 2.
    s22: Vec<Pair>,
}

impl Sweep {
    fn two_port(&self, points: usize) -> Result<Vec<TwoPort>, String> {
        let [s11, s21, s12, s22] =
            [&self.s11, &self.s21, &self.s12, &self.s22].map(|one| complex(one));
        if [s11.len(), s21.len(), s12.len(), s22.len()].iter().any(|len| *len != points) {
            return Err(format!(
                "each of s11, s21, s12 and s22 has one value at each of the {points} frequencies"
            ));
        }
        let at = |n: usize| TwoPort { s11: s11[n], s21: s21[n], s12: s12[n], s22: s22[n] };
        Ok((0..points).map(at).collect())
    }

    fn of(sweep: &[TwoPort]) -> Self {
        let part = |of: fn(&TwoPort) -> Complex| {
            sweep.iter().map(of).map(|one| [one.re, one.im]).collect()
        };
        Self {
            s11: part(|one| one.s11),
            s21: part(|one| one.s21),
            s12: part(|one| one.s12),
            s22: part(|one| one.s22),
        }
    }
}

struct Kit;

/// A standard by its model.
#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
#[schemars(example = serde_json::json!({
    "kind": "open", "coefficients": [4.8e-14, 0, 0, 0], "delay": 2.9e-11, "loss": 2.1e9, "frequencies": [1e9, 2e9]
}))]
struct KitAsked {
    /// What it is.
    kind: KitKind,
    /// C0 to C3 of an open in F and F/Hzⁿ, L0 to L3 of a short in H and H/Hzⁿ; resistance in Ω, series inductance in H and capacitance in F
    /// of a load. What is left out is zero.
    coefficients: Vec<f64>,
    /// Delay of the line in front of it, s.
    #[serde(default)]
    delay: f64,
    /// Its loss, Ω/s at 1 GHz.
    #[serde(default)]
    loss: f64,
    /// Its impedance, Ω.
    #[serde(default = "fifty")]
    offset_impedance: f64,
    /// Reference impedance, Ω.
    #[serde(default = "fifty")]
    impedance: f64,
    /// Frequencies, Hz.
    frequencies: Vec<f64>,
}

#[derive(Debug, Clone, Copy, Deserialize, JsonSchema)]
#[serde(rename_all = "snake_case")]
enum KitKind {
    Open,
    Short,
    Load,
}

fn fifty() -> f64 {
    50.0
}

/// Reflections.
#[derive(Debug, Serialize, JsonSchema)]
struct Reflections {
    /// At each frequency, real and imaginary part.
    reflection: Vec<Pair>,
}

impl Compute for Kit {
    const NAME: &'static str = "kit-response";
    const ABOUT: &'static str =
        "what an open, short or load reflects by its model, over the frequency";
    type Input = KitAsked;
    type Output = Reflections;

    fn compute(input: KitAsked) -> Result<Reflections, String> {
        let most = if matches!(input.kind, KitKind::Load) { 3 } else { 4 };
        if input.coefficients.len() > most {
            return Err(format!("coefficients: at most {most} belong to this kind of standard"));
        }
        let number = |nth: usize| input.coefficients.get(nth).copied().unwrap_or(0.0);
        let four = [number(0), number(1), number(2), number(3)];
        let offset =
            Offset { delay: input.delay, loss: input.loss, impedance: input.offset_impedance };
        let standard = match input.kind {
            KitKind::Open => Standard::Open { capacitance: four, offset },
            KitKind::Short => Standard::Short { inductance: four, offset },
            KitKind::Load => {
                let load =
                    Load { resistance: number(0), inductance: number(1), capacitance: number(2) };
                Standard::Load { load, offset }
            }
        };
        let found: Result<Vec<Complex>, _> =
            input.frequencies.iter().map(|f| standard.reflection(*f, input.impedance)).collect();
        Ok(Reflections { reflection: pairs(&found.map_err(said)?) })
    }
}

/// A standard of one port.
#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
struct OneStandard {
    /// What it reflects at each frequency.
    reflection: Vec<Pair>,
    /// What was measured of it.
    measured: Vec<Pair>,
}

fn terms_of(
    frequencies: &[f64],
    standards: &[OneStandard],
) -> Result<(Vec<OnePort>, Vec<f64>), String> {
    let own: Vec<(Vec<Complex>, Vec<Complex>)> =
        standards.iter().map(|one| (complex(&one.reflection), complex(&one.measured))).collect();
    let all: Vec<(&[Complex], &[Complex])> =
        own.iter().map(|(a, b)| (a.as_slice(), b.as_slice())).collect();
    one_port_terms(frequencies, &all).map_err(said)
}

struct OnePortCorrect;

/// Raw sweeps of one port.
#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
#[schemars(example = serde_json::json!({
    "frequencies": [1e9],
    "standards": [
        { "reflection": [[1, 0]], "measured": [[0.97, 0.05]] },
        { "reflection": [[-1, 0]], "measured": [[-0.91, 0.02]] },
        { "reflection": [[0, 0]], "measured": [[0.02, -0.01]] }
    ],
    "piece": [[0.3, 0.2]]
}))]
struct OnePortAsked {
    /// Frequencies, Hz.
    frequencies: Vec<f64>,
    /// Three standards or more; of more the errors are shared out by least squares.
    standards: Vec<OneStandard>,
    /// What was measured of the piece.
    piece: Vec<Pair>,
}

/// Error terms and the piece.
#[derive(Debug, Serialize, JsonSchema)]
struct OnePortFound {
    /// Directivity.
    directivity: Vec<Pair>,
    /// Source match.
    source_match: Vec<Pair>,
    /// Reflection tracking.
    tracking: Vec<Pair>,
    /// What is left of the standards, root mean square; nothing of three.
    residual: Vec<f64>,
    /// The piece, corrected.
    corrected: Vec<Pair>,
}

impl Compute for OnePortCorrect {
    const NAME: &'static str = "sol-correct";
    const ABOUT: &'static str = "one port corrected by short, open and load, or by more standards";
    type Input = OnePortAsked;
    type Output = OnePortFound;

    fn compute(input: OnePortAsked) -> Result<OnePortFound, String> {
        let (terms, residual) = terms_of(&input.frequencies, &input.standards)?;
        let raw = complex(&input.piece);
        if raw.len() != terms.len() {
            return Err(format!("piece: one value at each of the {} frequencies", terms.len()));
        }
        let part = |of: fn(&OnePort) -> Complex| pairs(&terms.iter().map(of).collect::<Vec<_>>());
        let corrected: Vec<Complex> =
            terms.iter().zip(&raw).map(|(one, raw)| one.corrected(*raw)).collect();
        Ok(OnePortFound {
            directivity: part(|one| one.directivity),
            source_match: part(|one| one.source_match),
            tracking: part(|one| one.tracking),
            residual,
            corrected: pairs(&corrected),
        })
    }
}

struct TwoPortCorrect;

/// Raw sweeps of two ports.
#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
#[schemars(example = serde_json::json!({
    "frequencies": [1e9],
    "port_1": [
        { "reflection": [[1, 0]], "measured": [[0.97, 0.05]] },
        { "reflection": [[-1, 0]], "measured": [[-0.91, 0.02]] },
        { "reflection": [[0, 0]], "measured": [[0.02, -0.01]] }
    ],
    "port_2": [
        { "reflection": [[1, 0]], "measured": [[0.95, 0.02]] },
        { "reflection": [[-1, 0]], "measured": [[-0.92, 0.03]] },
        { "reflection": [[0, 0]], "measured": [[0.01, 0.02]] }
    ],
    "measured_thru": { "s11": [[0.05, 0.02]], "s21": [[0.9, -0.1]], "s12": [[0.91, -0.1]], "s22": [[0.04, 0.01]] },
    "piece": { "s11": [[0.1, 0]], "s21": [[0.5, -0.2]], "s12": [[0.5, -0.2]], "s22": [[0.1, 0.1]] }
}))]
struct TwoPortAsked {
    /// Frequencies, Hz.
    frequencies: Vec<f64>,
    /// Standards on port 1.
    port_1: Vec<OneStandard>,
    /// Standards on port 2.
    port_2: Vec<OneStandard>,
    /// What the thru is; without length where it is left out.
    #[serde(default)]
    thru: Option<Sweep>,
    /// What was measured of the thru.
    measured_thru: Sweep,
    /// What was measured between ports that see nothing of each other; left out, crosstalk is taken for nothing.
    #[serde(default)]
    isolation: Option<Sweep>,
    /// What was measured of the piece.
    piece: Sweep,
}

/// A two-port.
#[derive(Debug, Serialize, JsonSchema)]
struct TwoPortFound {
    /// The piece, corrected.
    corrected: Sweep,
}

impl Compute for TwoPortCorrect {
    const NAME: &'static str = "solt-correct";
    const ABOUT: &'static str = "two ports corrected by twelve terms: short, open, load and thru, isolation where it was measured";
    type Input = TwoPortAsked;
    type Output = TwoPortFound;

    fn compute(input: TwoPortAsked) -> Result<TwoPortFound, String> {
        let frequencies = &input.frequencies;
        let points = frequencies.len();
        let (forward, _) = terms_of(frequencies, &input.port_1)?;
        let (reverse, _) = terms_of(frequencies, &input.port_2)?;
        let thru = match &input.thru {
            Some(thru) => thru.two_port(points)?,
            None => vec![TwoPort::THRU; points],
        };
        let measured = input.measured_thru.two_port(points)?;
        let isolation = match &input.isolation {
            Some(sweep) => {
                let all = sweep.two_port(points)?;
                Some(all.iter().map(|one| (one.s21, one.s12)).collect::<Vec<_>>())
            }
            None => None,
        };
        let ports = (forward.as_slice(), reverse.as_slice());
        let terms = twelve_terms(frequencies, ports, (&thru, &measured), isolation.as_deref())
            .map_err(said)?;
        let raw = input.piece.two_port(points)?;
        let corrected: Vec<TwoPort> =
            terms.iter().zip(&raw).map(|(one, raw)| one.corrected(raw)).collect();
        Ok(TwoPortFound { corrected: Sweep::of(&corrected) })
    }
}

#[derive(Debug, Clone, Copy, Deserialize, JsonSchema)]
#[serde(rename_all = "snake_case")]
enum About {
    Open,
    Short,
}

impl From<About> for Reflect {
    fn from(about: About) -> Self {
        match about {
            About::Open => Self::Open,
            About::Short => Self::Short,
        }
    }
}

/// The piece, and what was found out of the standards.
#[derive(Debug, Serialize, JsonSchema)]
struct SelfFound {
    /// The piece, corrected.
    corrected: Sweep,
    /// What the reflect reflects.
    reflect: Vec<Pair>,
    /// Propagation factor e^(−γl) of the line; nothing where a match was measured.
    line: Option<Vec<Pair>>,
}

fn both(sweep: &[TwoPort]) -> Vec<(Complex, Complex)> {
    sweep.iter().map(|one| (one.s11, one.s22)).collect()
}

fn corrected(found: &[LineReflect], raw: &[TwoPort]) -> SelfFound {
    let all: Vec<TwoPort> = found.iter().zip(raw).map(|(one, raw)| one.corrected(raw)).collect();
    let reflect: Vec<Complex> = found.iter().map(|one| one.reflect).collect();
    let line: Option<Vec<Complex>> = found.iter().map(|one| one.line).collect();
    SelfFound {
        corrected: Sweep::of(&all),
        reflect: pairs(&reflect),
        line: line.map(|line| pairs(&line)),
    }
}

struct LineCorrect;

/// Raw sweeps for thru, reflect and line. The reference plane lies in the middle of the thru, the reference impedance is that of the line.
#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
#[schemars(example = serde_json::json!({
    "frequencies": [1e9],
    "thru": { "s11": [[0, 0]], "s21": [[0.9, 0]], "s12": [[0.9, 0]], "s22": [[0, 0]] },
    "line": { "s11": [[0, 0]], "s21": [[0, -0.9]], "s12": [[0, -0.9]], "s22": [[0, 0]] },
    "reflect": { "s11": [[-0.9, 0]], "s21": [[0, 0]], "s12": [[0, 0]], "s22": [[-0.9, 0]] },
    "about": "short",
    "piece": { "s11": [[0.1, 0]], "s21": [[0.5, -0.2]], "s12": [[0.5, -0.2]], "s22": [[0.1, 0.1]] }
}))]
struct LineAsked {
    /// Frequencies, Hz.
    frequencies: Vec<f64>,
    /// What was measured of the thru.
    thru: Sweep,
    /// Of the line.
    line: Sweep,
    /// Of the same reflect on both ports: s11 and s22 count.
    reflect: Sweep,
    /// What the reflect is like.
    about: About,
    /// Of the piece.
    piece: Sweep,
}

impl Compute for LineCorrect {
    const NAME: &'static str = "trl-correct";
    const ABOUT: &'static str = "two ports corrected by thru, reflect and line";
    type Input = LineAsked;
    type Output = SelfFound;

    fn compute(input: LineAsked) -> Result<SelfFound, String> {
        let points = input.frequencies.len();
        let (thru, line) = (input.thru.two_port(points)?, input.line.two_port(points)?);
        let reflect = both(&input.reflect.two_port(points)?);
        let about = (reflect.as_slice(), Reflect::from(input.about));
        let found = line_correction(&input.frequencies, &thru, &line, about).map_err(said)?;
        Ok(corrected(&found, &input.piece.two_port(points)?))
    }
}

struct MatchCorrect;

/// Raw sweeps for thru, reflect and match.
#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
#[schemars(example = serde_json::json!({
    "frequencies": [1e9],
    "thru": { "s11": [[0, 0]], "s21": [[0.9, 0]], "s12": [[0.9, 0]], "s22": [[0, 0]] },
    "match": { "s11": [[0.01, 0]], "s21": [[0, 0]], "s12": [[0, 0]], "s22": [[0.02, 0]] },
    "reflect": { "s11": [[-0.9, 0]], "s21": [[0, 0]], "s12": [[0, 0]], "s22": [[-0.9, 0]] },
    "about": "short",
    "piece": { "s11": [[0.1, 0]], "s21": [[0.5, -0.2]], "s12": [[0.5, -0.2]], "s22": [[0.1, 0.1]] }
}))]
struct MatchAsked {
    /// Frequencies, Hz.
    frequencies: Vec<f64>,
    /// What was measured of the thru.
    thru: Sweep,
    /// Of the same match on both ports: s11 and s22 count.
    #[serde(rename = "match")]
    of_match: Sweep,
    /// What the match reflects; nothing at all where it is left out.
    #[serde(default)]
    match_reflection: Option<Vec<Pair>>,
    /// Of the same reflect on both ports: s11 and s22 count.
    reflect: Sweep,
    /// What the reflect is like.
    about: About,
    /// Of the piece.
    piece: Sweep,
}

impl Compute for MatchCorrect {
    const NAME: &'static str = "lrm-correct";
    const ABOUT: &'static str = "two ports corrected by thru, reflect and match";
    type Input = MatchAsked;
    type Output = SelfFound;

    fn compute(input: MatchAsked) -> Result<SelfFound, String> {
        let points = input.frequencies.len();
        let thru = input.thru.two_port(points)?;
        let measured = both(&input.of_match.two_port(points)?);
        let known = match &input.match_reflection {
            Some(own) => complex(own),
            None => vec![Complex::ZERO; points],
        };
        let reflect = both(&input.reflect.two_port(points)?);
        let about = (reflect.as_slice(), Reflect::from(input.about));
        let of_match = (measured.as_slice(), known.as_slice());
        let found = match_correction(&input.frequencies, &thru, of_match, about).map_err(said)?;
        Ok(corrected(&found, &input.piece.two_port(points)?))
    }
}

struct Conversions;

/// A reflection.
#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
#[schemars(example = serde_json::json!({ "reflection": [0.2, -0.1] }))]
struct ReflectionAsked {
    /// Real and imaginary part.
    reflection: Pair,
    /// Reference impedance, Ω.
    #[serde(default = "fifty")]
    impedance: f64,
}

/// The same in every way.
#[derive(Debug, Serialize, JsonSchema)]
struct ReflectionFound {
    /// Magnitude.
    magnitude: f64,
    /// Angle in degrees.
    degrees: f64,
    /// Return loss in dB; null where nothing comes back.
    return_loss: Option<f64>,
    /// Standing wave ratio; null where everything comes back.
    standing_wave_ratio: Option<f64>,
    /// Mismatch loss in dB; null where everything comes back.
    mismatch_loss: Option<f64>,
    /// Impedance in Ω; null of an open circuit.
    impedance: Option<Pair>,
    /// Admittance in S; null of a short circuit.
    admittance: Option<Pair>,
}

impl Compute for Conversions {
    const NAME: &'static str = "reflection-conversions";
    const ABOUT: &'static str =
        "a reflection as return loss, standing wave ratio, mismatch loss, impedance and admittance";
    type Input = ReflectionAsked;
    type Output = ReflectionFound;

    fn compute(input: ReflectionAsked) -> Result<ReflectionFound, String> {
        let [re, im] = input.reflection;
        let told = reflection(Complex::new(re, im), input.impedance).map_err(said)?;
        let finite = |value: f64| value.is_finite().then_some(value);
        Ok(ReflectionFound {
            magnitude: told.magnitude,
            degrees: told.degrees,
            return_loss: finite(told.return_loss),
            standing_wave_ratio: finite(told.standing_wave_ratio),
            mismatch_loss: finite(told.mismatch_loss),
            impedance: told.impedance.map(|z| [z.re, z.im]),
            admittance: told.admittance.map(|y| [y.re, y.im]),
        })
    }
}

struct Renormalize;

/// A one-port or a two-port, and its impedances.
#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
#[schemars(example = serde_json::json!({ "reflection": [[0.2, -0.1]], "from": [50], "to": [75] }))]
struct RenormalizeAsked {
    /// A one-port.
    #[serde(default)]
    reflection: Option<Vec<Pair>>,
    /// A two-port.
    #[serde(default)]
    sweep: Option<Sweep>,
    /// Real reference impedances that it has, Ω: one for each port.
    from: Vec<f64>,
    /// Those that it is to have.
    to: Vec<f64>,
}

/// The same in other impedances.
#[derive(Debug, Serialize, JsonSchema)]
struct RenormalizeFound {
    /// A one-port.
    reflection: Option<Vec<Pair>>,
    /// A two-port.
    sweep: Option<Sweep>,
}

impl Compute for Renormalize {
    const NAME: &'static str = "renormalize";
    const ABOUT: &'static str = "a one-port or a two-port in other real reference impedances";
    type Input = RenormalizeAsked;
    type Output = RenormalizeFound;

    fn compute(input: RenormalizeAsked) -> Result<RenormalizeFound, String> {
        for one in input.from.iter().chain(&input.to) {
            positive("an impedance", *one)?;
        }
        match (&input.reflection, &input.sweep, input.from.as_slice(), input.to.as_slice()) {
            (Some(own), None, [from], [to]) => {
                let found: Vec<Complex> = complex(own)
                    .iter()
                    .map(|one| renormalized_one_port(*one, *from, *to))
                    .collect();
                Ok(RenormalizeFound { reflection: Some(pairs(&found)), sweep: None })
            }
            (None, Some(own), [a, b], [c, d]) => {
                let all = own.two_port(own.s11.len())?;
                let found: Vec<TwoPort> =
                    all.iter().map(|one| renormalized(one, (*a, *b), (*c, *d))).collect();
                Ok(RenormalizeFound { reflection: None, sweep: Some(Sweep::of(&found)) })
            }
            _ => {
                Err("give either “reflection” with one impedance each way, or “sweep” with two"
                    .into())
            }
        }
    }
}

struct Read;

/// The text of a file.
#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
#[schemars(example = serde_json::json!({ "text": "# GHz S RI R 50\n1 0.2 0.1\n2 0.2 0.0\n" }))]
struct ReadAsked {
    /// What stands in the file.
    text: String,
    /// Ports, as its name says (.s2p); asked of its lines where it is left out.
    #[serde(default)]
    ports: Option<usize>,
}

/// A network.
#[derive(Debug, Serialize, JsonSchema)]
struct ReadFound {
    /// Ports.
    ports: usize,
    /// Frequencies, Hz.
    frequencies: Vec<f64>,
    /// Reference impedance of each port, Ω.
    references: Vec<f64>,
    /// At each frequency all rows of the matrix, one behind the other.
    parameters: Vec<Vec<Pair>>,
    /// Its comments.
    comments: Vec<String>,
    /// Whether noise data were passed over.
    noise: bool,
    /// Where it gives out more than it takes, in words; null of a passive piece, and of other than one and two ports.
    active_at: Option<String>,
}

impl Compute for Read {
    const NAME: &'static str = "touchstone-read";
    const ABOUT: &'static str =
        "a Touchstone file (1.1 or 2.0) as numbers, its faults by their lines";
    type Input = ReadAsked;
    type Output = ReadFound;

    fn compute(input: ReadAsked) -> Result<ReadFound, String> {
        let found = read_touchstone(input.text.as_bytes(), input.ports).map_err(said)?;
        let gain = |all: &[Complex]| match all {
            [one] => one.norm(),
            [s11, s12, s21, s22] => {
                TwoPort { s11: *s11, s21: *s21, s12: *s12, s22: *s22 }.largest_gain()
            }
            _ => 0.0,
        };
        let active: Vec<f64> = found
            .frequencies
            .iter()
            .zip(&found.parameters)
            .filter(|(_, all)| gain(all) > 1.0 + 1e-9)
            .map(|(f, _)| *f)
            .collect();
        Ok(ReadFound {
            ports: found.ports,
            references: found.references,
            parameters: found.parameters.iter().map(|all| pairs(all)).collect(),
            comments: found.comments,
            noise: found.noise,
            active_at: (!active.is_empty()).then(|| frequency_words(&active)),
            frequencies: found.frequencies,
        })
    }
}

struct Vectors;

/// A sweep and the one that is stored of the piece.
#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
#[schemars(example = serde_json::json!({
    "frequencies": [1e9, 2e9], "found": [[0.11, 0], [0.1, 0.01]], "reference": [[0.1, 0], [0.1, 0]], "limits": [0.02, 0.02]
}))]
struct VectorsAsked {
    /// Frequencies, Hz.
    frequencies: Vec<f64>,
    /// What was found.
    found: Vec<Pair>,
    /// What is stored.
    reference: Vec<Pair>,
    /// Limit of |ΔΓ| at each frequency.
    #[serde(default)]
    limits: Option<Vec<f64>>,
}

/// How far it lies off.
#[derive(Debug, Serialize, JsonSchema)]
struct VectorsFound {
    /// Error vectors.
    vectors: Vec<Pair>,
    /// Frequency at which the vector is greatest, by its limit where there is one.
    worst_at: f64,
    /// Its length there.
    largest: f64,
    /// Whether all are within their limits; null without limits.
    inside: Option<bool>,
}

impl Compute for Vectors {
    const NAME: &'static str = "error-vector";
    const ABOUT: &'static str =
        "a sweep less the stored one of the piece, against a limit by frequency";
    type Input = VectorsAsked;
    type Output = VectorsFound;

    fn compute(input: VectorsAsked) -> Result<VectorsFound, String> {
        let (found, reference) = (complex(&input.found), complex(&input.reference));
        let told = error_vector(&input.frequencies, &found, &reference, input.limits.as_deref())
            .map_err(said)?;
        Ok(VectorsFound {
            vectors: pairs(&told.vectors),
            worst_at: input.frequencies[told.worst],
            largest: told.largest,
            inside: told.inside,
        })
    }
}

struct Residual;

/// A corrected sweep of a load or a short behind an airline.
#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
#[schemars(example = serde_json::json!({
    "frequencies": [1e9, 2e9, 3e9, 4e9, 5e9, 6e9, 7e9, 8e9],
    "found": [[0.06, 0], [0.04, 0], [0.06, 0], [0.04, 0], [0.06, 0], [0.04, 0], [0.06, 0], [0.04, 0]]
}))]
struct ResidualAsked {
    /// Frequencies, Hz.
    frequencies: Vec<f64>,
    /// What was found.
    found: Vec<Pair>,
}

/// What is left of an error term.
#[derive(Debug, Serialize, JsonSchema)]
struct ResidualFound {
    /// Half height of the ripple: residual directivity behind a load, source match behind a short.
    residual: f64,
    /// The same in dB; null where there is no ripple at all.
    decibels: Option<f64>,
    /// Half waves of the ripple in the sweep.
    half_waves: f64,
    /// What it is worth, in a sentence.
    words: String,
}

impl Compute for Residual {
    const NAME: &'static str = "residual-errors";
    const ABOUT: &'static str =
        "residual directivity or source match by the ripple behind an airline";
    type Input = ResidualAsked;
    type Output = ResidualFound;

    fn compute(input: ResidualAsked) -> Result<ResidualFound, String> {
        let told = ripple(&input.frequencies, &complex(&input.found)).map_err(said)?;
        let words = if told.waves < 2.0 {
            "The sweep holds less than a wave of ripple: a longer airline or a wider sweep is needed."
        } else {
            "Behind a load it is what is left of the directivity; behind a short, of source match and directivity together."
        };
        Ok(ResidualFound {
            residual: told.residual,
            decibels: told.decibels.is_finite().then_some(told.decibels),
            half_waves: told.waves,
            words: words.to_owned(),
        })
    }
}

struct Apart;

/// A network and what stands before and after the piece in it.
#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
#[schemars(example = serde_json::json!({
    "frequencies": [1e9],
    "whole": { "s11": [[0.1, 0]], "s21": [[0, -0.8]], "s12": [[0, -0.8]], "s22": [[0.1, 0]] },
    "before": { "s11": [[0, 0]], "s21": [[0, -1]], "s12": [[0, -1]], "s22": [[0, 0]] }
}))]
struct ApartAsked {
    /// Frequencies, Hz.
    frequencies: Vec<f64>,
    /// The whole.
    whole: Sweep,
    /// What stands before the piece.
    #[serde(default)]
    before: Option<Sweep>,
    /// What stands after it.
    #[serde(default)]
    after: Option<Sweep>,
}

/// The piece.
#[derive(Debug, Serialize, JsonSchema)]
struct ApartFound {
    /// The piece alone.
    piece: Sweep,
}

impl Compute for Apart {
    const NAME: &'static str = "deembed";
    const ABOUT: &'static str = "a two-port without what stands before and after it";
    type Input = ApartAsked;
    type Output = ApartFound;

    fn compute(input: ApartAsked) -> Result<ApartFound, String> {
        let points = input.frequencies.len();
        let part = |own: &Option<Sweep>| own.as_ref().map(|own| own.two_port(points)).transpose();
        let (whole, before, after) =
            (input.whole.two_port(points)?, part(&input.before)?, part(&input.after)?);
        let found = deembed(&input.frequencies, &whole, before.as_deref(), after.as_deref())
            .map_err(said)?;
        Ok(ApartFound { piece: Sweep::of(&found) })
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use serde_json::{Value, json};

    fn run<C: Compute>(input: &Value) -> Result<Value, String> {
        let text = Computation::of::<C>().run(&input.to_string())?;
        Ok(serde_json::from_str(&text).unwrap())
    }

    fn pair(of: &Value) -> (f64, f64) {
        (of[0].as_f64().unwrap(), of[1].as_f64().unwrap())
    }

    fn is(of: &Value, re: f64, im: f64) {
        let (a, b) = pair(of);
        assert!((a - re).abs() < 1e-9 && (b - im).abs() < 1e-9, "{of} is not {re}, {im}");
    }

    fn sweep(s11: f64, s21: f64, s12: f64, s22: f64) -> Value {
        json!({ "s11": [[s11, 0]], "s21": [[s21, 0]], "s12": [[s12, 0]], "s22": [[s22, 0]] })
    }

    /// An ideal port: what is measured of each standard is what it is.
    fn ideal() -> Value {
        let one = |value: f64| json!({ "reflection": [[value, 0]], "measured": [[value, 0]] });
        json!([one(1.0), one(-1.0), one(0.0)])
    }

    #[test]
    fn a_kit_by_its_numbers() {
        let open = json!({ "kind": "open", "coefficients": [], "frequencies": [1e9, 2e9] });
        let found = run::<Kit>(&open).unwrap();
        is(&found["reflection"][1], 1.0, 0.0);
        // A quarter of a nanosecond turns it by half a turn at 1 GHz.
        let turned =
            json!({ "kind": "open", "coefficients": [], "delay": 2.5e-10, "frequencies": [1e9] });
        is(&run::<Kit>(&turned).unwrap()["reflection"][0], -1.0, 0.0);
        let load = json!({ "kind": "load", "coefficients": [100], "frequencies": [1e9] });
        is(&run::<Kit>(&load).unwrap()["reflection"][0], 1.0 / 3.0, 0.0);
        let long = json!({ "kind": "load", "coefficients": [50, 0, 0, 0], "frequencies": [1e9] });
        assert!(run::<Kit>(&long).unwrap_err().contains("at most 3"));
        let still = json!({ "kind": "short", "coefficients": [], "frequencies": [0] });
        assert!(run::<Kit>(&still).unwrap_err().contains("above zero"));
    }

    #[test]
    fn one_port_and_two_ports_of_an_ideal_analyzer() {
        let one = json!({ "frequencies": [1e9], "standards": ideal(), "piece": [[0.3, 0.2]] });
        let found = run::<OnePortCorrect>(&one).unwrap();
        is(&found["corrected"][0], 0.3, 0.2);
        is(&found["tracking"][0], 1.0, 0.0);
        assert!(found["residual"][0].as_f64().unwrap() < 1e-12);
        let mut short = one.clone();
        short["piece"] = json!([[0.3, 0.2], [0.1, 0.0]]);
        assert!(run::<OnePortCorrect>(&short).unwrap_err().contains("one value at each of the 1"));
        let mut alike = one;
        alike["standards"][1] = alike["standards"][0].clone();
        assert!(run::<OnePortCorrect>(&alike).unwrap_err().contains("too much alike at 1 GHz"));
        let two = json!({
            "frequencies": [1e9], "port_1": ideal(), "port_2": ideal(),
            "measured_thru": sweep(0.0, 1.0, 1.0, 0.0), "piece": sweep(0.1, 0.7, 0.6, -0.2)
        });
        let found = run::<TwoPortCorrect>(&two).unwrap();
        is(&found["corrected"]["s21"][0], 0.7, 0.0);
        is(&found["corrected"]["s22"][0], -0.2, 0.0);
        let mut dead = two.clone();
        dead["measured_thru"] = sweep(0.0, 0.0, 0.0, 0.0);
        assert!(run::<TwoPortCorrect>(&dead).unwrap_err().contains("passes nothing on"));
        let mut uneven = two;
        uneven["piece"]["s12"] = json!([]);
        assert!(run::<TwoPortCorrect>(&uneven).unwrap_err().contains("each of s11"));
    }

    #[test]
    fn lines_and_matches_of_an_ideal_analyzer() {
        let line = json!({ "s11": [[0, 0]], "s21": [[0, -1]], "s12": [[0, -1]], "s22": [[0, 0]] });
        let mut input = json!({
            "frequencies": [1e9], "thru": sweep(0.0, 1.0, 1.0, 0.0), "line": line,
            "reflect": sweep(-1.0, 0.0, 0.0, -1.0), "about": "short", "piece": sweep(0.1, 0.7, 0.6, -0.2)
        });
        let found = run::<LineCorrect>(&input).unwrap();
        is(&found["corrected"]["s12"][0], 0.6, 0.0);
        is(&found["line"][0], 0.0, -1.0);
        is(&found["reflect"][0], -1.0, 0.0);
        input["line"] = sweep(0.0, 1.0, 1.0, 0.0);
        assert!(run::<LineCorrect>(&input).unwrap_err().contains("half waves longer"));
        input.as_object_mut().unwrap().remove("line");
        input["match"] = sweep(0.0, 0.0, 0.0, 0.0);
        let found = run::<MatchCorrect>(&input).unwrap();
        is(&found["corrected"]["s11"][0], 0.1, 0.0);
        assert_eq!(found["line"], Value::Null);
        input["match_reflection"] = json!([]);
        assert!(run::<MatchCorrect>(&input).is_err());
    }

    #[test]
    fn networks_are_told_in_other_ways() {
        let found = run::<Conversions>(&json!({ "reflection": [1, 0] })).unwrap();
        assert_eq!(
            (&found["impedance"], &found["standing_wave_ratio"]),
            (&Value::Null, &Value::Null)
        );
        let one = json!({ "reflection": [[0, 0]], "from": [50], "to": [75] });
        is(&run::<Renormalize>(&one).unwrap()["reflection"][0], -0.2, 0.0);
        let two = json!({ "sweep": sweep(0.0, 1.0, 1.0, 0.0), "from": [50, 50], "to": [50, 50] });
        is(&run::<Renormalize>(&two).unwrap()["sweep"]["s21"][0], 1.0, 0.0);
        let whole = json!({
            "frequencies": [1e9], "whole": sweep(0.1, 0.5, 0.5, 0.1),
            "before": sweep(0.0, 1.0, 1.0, 0.0), "after": sweep(0.0, 1.0, 1.0, 0.0)
        });
        is(&run::<Apart>(&whole).unwrap()["piece"]["s11"][0], 0.1, 0.0);
    }

    #[test]
    fn impedances_that_do_not_fit() {
        for input in [
            json!({ "reflection": [[0, 0]], "from": [50, 50], "to": [75] }),
            json!({ "from": [50], "to": [75] }),
            json!({ "reflection": [[0, 0]], "from": [0], "to": [75] }),
        ] {
            assert!(run::<Renormalize>(&input).is_err(), "{input}");
        }
    }

    #[test]
    fn files_and_what_is_worth_of_them() {
        let text = "# GHz S RI R 50\n1 1.2 0\n2 0.5 0\n";
        let found = run::<Read>(&json!({ "text": text })).unwrap();
        assert_eq!(found["active_at"], "1 GHz");
        assert_eq!(found["frequencies"][1], 2e9);
        let quiet = run::<Read>(&json!({ "text": "# GHz S RI R 50\n1 0.2 0\n" })).unwrap();
        assert_eq!(quiet["active_at"], Value::Null);
        assert!(run::<Read>(&json!({ "text": "1 2 3" })).unwrap_err().contains("Line 1"));
        let off = json!({
            "frequencies": [1e9, 2e9], "found": [[0.1, 0], [0.2, 0]], "reference": [[0.1, 0], [0.17, 0]],
            "limits": [0.1, 0.02]
        });
        let found = run::<Vectors>(&off).unwrap();
        assert_eq!((&found["worst_at"], &found["inside"]), (&json!(2e9), &json!(false)));
        let flat = json!({
            "frequencies": [1, 2, 3, 4, 5, 6, 7, 8], "found": vec![[0.1, 0.0]; 8]
        });
        let found = run::<Residual>(&flat).unwrap();
        assert_eq!(found["decibels"], Value::Null);
        assert!(found["words"].as_str().unwrap().contains("less than a wave"));
    }
}
