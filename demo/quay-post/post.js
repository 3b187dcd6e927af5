// The quay's mail: takes what the sentry sends (SMTP, RFC 5321), and shows the box as text over HTTP.
import http from "node:http";
import net from "node:net";

const smtpPort = Number(process.env.POST_PORT);
const boxPort = Number(process.env.BOX_PORT);
const longest = 4 << 20;
const kept = 200;
const box = [];

net
  .createServer((line) => {
    let rest = "";
    let mail = null;
    const say = (text) => line.write(`${text}\r\n`);
    line.setEncoding("utf8");
    line.setTimeout(60_000, () => line.destroy());
    line.on("error", () => {});
    say("220 quay-post takes mail");
    line.on("data", (text) => {
      rest += text;
      if (rest.length > longest) return line.destroy();
      for (let end = rest.indexOf("\r\n"); end >= 0; end = rest.indexOf("\r\n")) {
        const said = rest.slice(0, end);
        rest = rest.slice(end + 2);
        if (mail === null) command(said);
        else if (said !== ".") mail.push(said.replace(/^\./, ""));
        else {
          deliver(mail);
          mail = null;
          say("250 it is in the box");
        }
      }
    });
    function command(said) {
      const word = said.split(/[ :]/, 1)[0].toUpperCase();
      if (word === "DATA") {
        mail = [];
        say("354 go on, end with a line of one dot");
      } else if (word === "QUIT") {
        say("221 fair winds");
        line.end();
      } else if (["EHLO", "HELO", "MAIL", "RCPT", "RSET", "NOOP"].includes(word)) say("250 quay-post");
      else say("502 not here");
    }
  })
  .listen(smtpPort, "127.0.0.1", () => console.log(`quay post takes mail at 127.0.0.1:${smtpPort}`));

http
  .createServer((_, answer) => {
    answer.setHeader("Content-Type", "text/plain; charset=utf-8");
    answer.end(box.length ? box.join("\n\n") : "The box is empty.\n");
  })
  .listen(boxPort, "127.0.0.1", () => console.log(`its box: http://127.0.0.1:${boxPort}/`));

function deliver(lines) {
  const { headers, body } = split(lines);
  const text = `From: ${decoded(headers.from)}\nTo: ${decoded(headers.to)}\nSubject: ${decoded(headers.subject)}\n\n${plain(headers, body)}`;
  box.push(text);
  if (box.length > kept) box.shift();
  console.log(`${"—".repeat(20)}\n${text}`);
}

/** Headers with their folded lines, and the lines behind them. */
function split(lines) {
  const end = lines.indexOf("");
  const headers = {};
  let last;
  for (const line of lines.slice(0, end < 0 ? lines.length : end)) {
    if (/^\s/.test(line) && last) headers[last] += ` ${line.trim()}`;
    else {
      const colon = line.indexOf(":");
      last = line.slice(0, colon).toLowerCase();
      headers[last] = line.slice(colon + 1).trim();
    }
  }
  return { headers, body: end < 0 ? [] : lines.slice(end + 1) };
}

/** The text part, decoded (RFC 2045). */
function plain(headers, body) {
  const boundary = /boundary="?([^";]+)"?/.exec(headers["content-type"] ?? "")?.[1];
  if (boundary) {
    const part = body.join("\n").split(`--${boundary}`)[1] ?? "";
    const inner = split(part.replace(/^\n/, "").split("\n"));
    return plain(inner.headers, inner.body);
  }
  const text = body.join("\n");
  const how = (headers["content-transfer-encoding"] ?? "").toLowerCase();
  if (how === "base64") return Buffer.from(text, "base64").toString("utf8");
  if (how === "quoted-printable")
    return Buffer.from(
      text.replace(/=\n/g, "").replace(/=([0-9A-F]{2})/g, (_, hex) => String.fromCharCode(Number.parseInt(hex, 16))),
      "latin1",
    ).toString("utf8");
  return text;
}

/** Encoded words of a header (RFC 2047). */
function decoded(header = "") {
  return header.replace(/=\?utf-8\?([bq])\?([^?]*)\?=\s*/gi, (_, how, text) =>
    how.toLowerCase() === "b"
      ? Buffer.from(text, "base64").toString("utf8")
      : Buffer.from(
          text.replace(/_/g, " ").replace(/=([0-9A-F]{2})/gi, (_, hex) => String.fromCharCode(Number.parseInt(hex, 16))),
          "latin1",
        ).toString("utf8"),
  );
}
