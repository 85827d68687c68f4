//! How far hosts let one in, and opening those that still ask for a password.

use std::net::SocketAddr;
use std::time::Duration;

use tokio::io::AsyncReadExt as _;
use tokio::net::TcpStream;
use tokio::time::{Instant, timeout};
use zoisite_core::cluster::HostName;
use zoisite_core::diagnosis::Trouble;
use zoisite_core::login::{
    Opened, Opening, OpeningFailed, RULES, Stage, WayIn, closing_scripts, find_key_script,
    key_script, look_around, overriding_rule, read_inside, rule_script, stage_of,
};
use zoisite_core::text::plain;

use super::channel::Saying;
use super::openssh::WORDLESS;
use super::{Hosts, in_one_line};

/// For how long a name is looked up, a port dialled, a greeting waited for.
const NAME: Duration = Duration::from_secs(10);
const PORT: Duration = Duration::from_secs(6);
const GREETING: Duration = Duration::from_secs(10);

impl Hosts {
    /// How far a host lets one in: every stage with a deadline of its own, up to the first that is not passed.
    /// Changes nothing there.
    pub async fn way_in(&self, host: &HostName) -> WayIn {
        match self.climb(host).await {
            Ok(inside) => WayIn::of_inside(host, inside),
            Err((stage, trouble)) => WayIn::stopped(host, stage, trouble),
        }
    }

    async fn climb(
        &self,
        host: &HostName,
    ) -> Result<zoisite_core::login::Inside, (Stage, Trouble)> {
        let channel = self.channel(host).map_err(|trouble| (Stage::Name, trouble))?;
        if let Err(trouble) = channel.connection_now().await {
            let stage = stage_of(&trouble.answer);
            // Only what ssh itself does not tell is looked into: sshd counts callers who do not log in, and bars
            // those who come often (sshd_config(5), PerSourcePenalties).
            if stage < Stage::HostKey
                && let Some((name, port)) = channel.dials().await
            {
                knock(host, &name, port).await?;
            }
            if stage == Stage::Server {
                return Err((stage, closed_after_greeting(trouble)));
            }
            return Err((stage, self.login_fix(host, stage, trouble)));
        }
        let attempted = "becoming root";
        let (silence, until) = (self.deadlines.asking, Instant::now());
        let saying = Saying { attempted, script: 0, silence, until };
        let told = channel.script_output(&look_around(), &saying).await;
        let (text, heard) = told.map_err(|trouble| (Stage::Root, trouble))?;
        if let Some(inside) = read_inside(&text) {
            return Ok(inside);
        }
        if let Some(fault) = heard.fault {
            return Err((Stage::Tools, super::hangs(host, "looking around", fault, None)));
        }
        let said = heard.said.trim().to_owned();
        let at_root = said.contains("sudo") || said.contains("password");
        if !at_root {
            let answer = match said.as_str() {
                "" => "sh ended without a word".to_owned(),
                said => in_one_line(said),
            };
            return Err((
                Stage::Tools,
                Trouble::new(Some(host.clone()), "running sh", answer, vec![]),
            ));
        }
        Err((Stage::Root, self.root_trouble(host, attempted, said).await))
    }

    /// Why one does not become root: which rule of sudo stands in the way.
    async fn root_trouble(&self, host: &HostName, attempted: &str, said: String) -> Trouble {
        let trouble = Trouble::new(Some(host.clone()), attempted, said, Vec::new());
        let Ok(channel) = self.channel(host) else { return trouble };
        let rules = channel.as_user(RULES, "reading sudo's rules", self.deadlines.asking).await;
        let by_hand =
            format!("zoisite login setup {host} asks for the password once and puts it right");
        match rules.ok().and_then(|(rules, _)| overriding_rule(&rules)) {
            Some(file) => Trouble {
                cause: Some(format!("a rule that comes later overrides the one without a password: the last that matches wins, and it is in {file}")),
                ..trouble
            }
            .fix(by_hand),
            None => trouble.fix(by_hand),
        }
    }

    fn login_fix(&self, host: &HostName, stage: Stage, trouble: Trouble) -> Trouble {
        match stage {
            Stage::Login => trouble.fix(format!(
                "zoisite login setup {host} asks for the password once and places your key; or name another user or key in your SSH configuration"
            )),
            Stage::HostKey if !zoisite_core::login::is_changed_key(&trouble.answer) => {
                let by_hand = trouble.fix.clone();
                trouble.fix(format!("zoisite login setup {host} shows it and asks; or {by_hand}"))
            }
            _ => trouble,
        }
    }

    /// Has a script of the way in run, as root or as the login user.
    async fn opening(&self, host: &HostName, script: &str, root: bool) -> Result<Opening, Trouble> {
        let attempted = "opening the host";
        let channel = self.channel(host)?;
        let (text, said) = match root {
            true => {
                let (silence, until) = (self.deadlines.looking, Instant::now());
                let saying = Saying { attempted, script: 0, silence, until };
                let (text, heard) = channel.script_output(script, &saying).await?;
                (text, heard.said)
            }
            false => channel.as_user(script, attempted, self.deadlines.looking).await?,
        };
        Opening::read(&text).map_err(|OpeningFailed(why)| {
            let answer = match (text.contains("@\trefused"), said.trim()) {
                (true, _) | (_, "") => why,
                (false, said) => in_one_line(said),
            };
            let trouble = Trouble::new(Some(host.clone()), attempted, answer, Vec::new());
            match trouble.cause {
                Some(_) => trouble,
                None => trouble.fix(
                    "nothing was changed there: put that right, then run the same command again",
                ),
            }
        })
    }

    /// What [`Self::open`] is about to place, as far as it can be known beforehand: a record of it takes back
    /// what one that was killed half-way placed. Changes nothing there.
    ///
    /// # Errors
    /// What kept it from being looked at.
    pub async fn about_to_open(
        &self,
        host: &HostName,
        user: &str,
        key: &str,
    ) -> Result<Opened, Trouble> {
        let had = self.opening(host, &find_key_script(key), false).await? == Opening::KeyHad;
        let key = (!had).then(|| key.to_owned());
        Ok(Opened { user: user.to_owned(), key, rule: None, begun: true })
    }

    /// Lets the login user become root without a password, and adds a line to their authorized keys. Where the
    /// second fails, the first is taken back.
    ///
    /// # Errors
    /// What kept it from being opened: nothing stays there then.
    pub async fn open(&self, host: &HostName, user: &str, key: &str) -> Result<Opened, Trouble> {
        let mut opened = Opened { user: user.to_owned(), ..Opened::default() };
        if user != "root"
            && let Opening::Rule(file) = self.opening(host, &rule_script(user), true).await?
        {
            opened.rule = Some(file);
        }
        match self.opening(host, &key_script(key), false).await {
            Ok(Opening::KeyPlaced) => opened.key = Some(key.to_owned()),
            Ok(_) => {}
            Err(trouble) => {
                let _ = self.close_again(host, &opened).await;
                return Err(trouble);
            }
        }
        Ok(opened)
    }

    /// Takes back what was placed, the key last: it is what lets one in for the rest.
    ///
    /// # Errors
    /// What kept it from being taken back.
    pub async fn close_again(&self, host: &HostName, opened: &Opened) -> Result<(), Trouble> {
        let (rule, key) = closing_scripts(opened);
        if let Some(script) = rule {
            self.opening(host, &script, true).await?;
        }
        if let Some(script) = key {
            self.opening(host, &script, false).await?;
        }
        Ok(())
    }
}

/// What greets as SSH does and then goes away: ssh does not always have a word for that.
fn closed_after_greeting(trouble: Trouble) -> Trouble {
    let host = trouble.host.as_ref().map_or("it", HostName::as_str).to_owned();
    let answer = match trouble.answer.as_str() {
        WORDLESS => "it greets as SSH does, and then closes the connection".to_owned(),
        said => said.to_owned(),
    };
    Trouble { answer, ..trouble }.fix(format!(
        "on {host}: sshd -t tells whether its configuration is sound, journalctl -u ssh why it closes (host keys that it may not read, MaxStartups, PerSourcePenalties)"
    ))
}

/// Whether something that speaks SSH answers there.
async fn knock(host: &HostName, name: &str, port: u16) -> Result<(), (Stage, Trouble)> {
    let stop = |stage: Stage, attempted: String, answer: String| {
        (stage, Trouble::new(Some(host.clone()), attempted, answer, Vec::new()))
    };
    let looking = timeout(NAME, tokio::net::lookup_host((name, port))).await;
    let attempted = || format!("looking up {name}");
    let found: Vec<SocketAddr> = match looking {
        Err(_) => {
            let why = format!("no name server answered within {} seconds", NAME.as_secs());
            return Err(stop(Stage::Name, attempted(), why));
        }
        Ok(Err(error)) => {
            let why = error.to_string();
            let why = why.strip_prefix("failed to lookup address information: ").unwrap_or(&why);
            return Err(stop(Stage::Name, attempted(), why.to_owned()));
        }
        Ok(Ok(found)) => found.collect(),
    };
    let mut missed = stop(Stage::Name, attempted(), "it has no address".into());
    for at in found {
        let attempted = format!("dialling {at}");
        match timeout(PORT, TcpStream::connect(at)).await {
            Ok(Ok(stream)) => return greeted(host, at, stream).await,
            Err(_) => {
                let why = format!("no answer within {} seconds", PORT.as_secs());
                let (stage, trouble) = stop(Stage::Port, attempted, why);
                let fix = format!(
                    "check that {host} is switched on and has that address, and that no firewall drops port {port}"
                );
                missed = (stage, trouble.fix(fix));
            }
            Ok(Err(error)) => {
                use std::io::ErrorKind::{HostUnreachable, NetworkUnreachable};
                let stage = match error.kind() {
                    HostUnreachable | NetworkUnreachable => Stage::Route,
                    _ => Stage::Port,
                };
                missed = stop(stage, attempted, said_by_system(&error));
            }
        }
    }
    Err(missed)
}

/// An error of the system without its number.
fn said_by_system(error: &std::io::Error) -> String {
    let text = error.to_string();
    text.split(" (os error").next().unwrap_or(&text).to_owned()
}

/// A server of SSH says so in its first lines (RFC 4253 section 4.2).
async fn greeted(
    host: &HostName,
    at: SocketAddr,
    mut stream: TcpStream,
) -> Result<(), (Stage, Trouble)> {
    let mut heard = Vec::new();
    let listen = async {
        let mut block = [0; 512];
        while let Ok(n @ 1..) = stream.read(&mut block).await {
            heard.extend_from_slice(&block[..n]);
            let greets = heard.split(|octet| *octet == b'\n').any(|line| line.starts_with(b"SSH-"));
            if greets || heard.len() > 16_384 {
                return greets;
            }
        }
        false
    };
    let greets = timeout(GREETING, listen).await;
    let text = plain(&String::from_utf8_lossy(&heard)).chars().take(80).collect::<String>();
    let (answer, fix) = match (greets, text.trim()) {
        (Ok(true), _) => return Ok(()),
        (Err(_), _) => (
            format!("it took the connection and said nothing for {} seconds", GREETING.as_secs()),
            format!(
                "what listens there is no SSH server, or one that is overloaded: on {host}, ss -ltnp and systemctl status ssh"
            ),
        ),
        (Ok(false), "") => (
            "it closed the connection without a word".to_owned(),
            format!(
                "its SSH server turns this machine away for now (PerSourcePenalties, a ban after failed logins, MaxStartups): wait a minute; on {host}, journalctl -u ssh"
            ),
        ),
        (Ok(false), text) => (
            format!("what answers there does not speak SSH: {text}"),
            "put the port right under [login], or in your SSH configuration".to_owned(),
        ),
    };
    let trouble =
        Trouble::new(Some(host.clone()), format!("being greeted by {at}"), answer, vec![]);
    Err((Stage::Server, trouble.fix(fix)))
}
