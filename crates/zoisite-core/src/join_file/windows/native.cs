using System;
using System.Collections.Generic;
using System.IO;
using System.Net.Security;
using System.Net.Sockets;
using System.Runtime.InteropServices;
using System.Security.Authentication;
using System.Security.Cryptography.X509Certificates;
using System.Text;

public static class ZoisiteNetwork {
    [DllImport("computenetwork.dll", CharSet = CharSet.Unicode)]
    static extern int HcnEnumerateNetworks(string query, out IntPtr networks, out IntPtr error);
    [DllImport("computenetwork.dll", CharSet = CharSet.Unicode)]
    static extern int HcnCreateNetwork(ref Guid id, string settings, out IntPtr network, out IntPtr error);
    [DllImport("computenetwork.dll", CharSet = CharSet.Unicode)]
    static extern int HcnOpenNetwork(ref Guid id, out IntPtr network, out IntPtr error);
    [DllImport("computenetwork.dll", CharSet = CharSet.Unicode)]
    static extern int HcnModifyNetwork(IntPtr network, string settings, out IntPtr error);
    [DllImport("computenetwork.dll", CharSet = CharSet.Unicode)]
    static extern int HcnQueryNetworkProperties(IntPtr network, string query, out IntPtr properties, out IntPtr error);
    [DllImport("computenetwork.dll", CharSet = CharSet.Unicode)]
    static extern int HcnDeleteNetwork(ref Guid id, out IntPtr error);
    [DllImport("computenetwork.dll")]
    static extern int HcnCloseNetwork(IntPtr network);

    static string Text(IntPtr text) {
        if (text == IntPtr.Zero) return "";
        var read = Marshal.PtrToStringUni(text);
        Marshal.FreeCoTaskMem(text);
        return read;
    }

    static void Check(int code, IntPtr error, string what) {
        var why = Text(error);
        if (code < 0) throw new Exception(what + ": 0x" + code.ToString("x8") + " " + why);
    }

    public static string All() {
        IntPtr all, error;
        Check(HcnEnumerateNetworks("{}", out all, out error), error, "listing networks");
        return Text(all);
    }

    static T With<T>(string id, Func<IntPtr, T> work) {
        var guid = new Guid(id);
        IntPtr network, error;
        Check(HcnOpenNetwork(ref guid, out network, out error), error, "opening the network " + id);
        try { return work(network); } finally { HcnCloseNetwork(network); }
    }

    public static string Read(string id) {
        return With(id, network => {
            IntPtr properties, error;
            Check(HcnQueryNetworkProperties(network, "{}", out properties, out error), error, "reading the network " + id);
            return Text(properties);
        });
    }

    public static void Make(string settings) {
        var guid = Guid.NewGuid();
        IntPtr network, error;
        Check(HcnCreateNetwork(ref guid, settings, out network, out error), error, "making the network");
        HcnCloseNetwork(network);
    }

    public static void Change(string id, string settings) {
        With(id, network => {
            IntPtr error;
            Check(HcnModifyNetwork(network, settings, out error), error, "changing the network " + id);
            return 0;
        });
    }

    public static void Remove(string id) {
        var guid = new Guid(id);
        IntPtr error;
        Check(HcnDeleteNetwork(ref guid, out error), error, "removing the network " + id);
    }

    // The first line of an answer by TLS, from somebody with a certificate of these authorities (PEM).
    public static string Ask(string host, int port, string authorities, string request) {
        var known = new List<X509Certificate2>();
        foreach (var part in authorities.Split(new[] { "-----END CERTIFICATE-----" }, StringSplitOptions.None)) {
            var at = part.IndexOf("-----BEGIN CERTIFICATE-----");
            if (at >= 0) known.Add(new X509Certificate2(Convert.FromBase64String(part.Substring(at + 27))));
        }
        using (var client = new TcpClient()) {
            if (!client.ConnectAsync(host, port).Wait(20000)) throw new Exception("no answer from " + host + ":" + port);
            client.ReceiveTimeout = client.SendTimeout = 20000;
            using (var stream = new SslStream(client.GetStream(), false, (sender, certificate, ignored, errors) => {
                if ((errors & SslPolicyErrors.RemoteCertificateNameMismatch) != 0 || certificate == null) return false;
                var chain = new X509Chain();
                chain.ChainPolicy.RevocationMode = X509RevocationMode.NoCheck;
                chain.ChainPolicy.VerificationFlags = X509VerificationFlags.AllowUnknownCertificateAuthority;
                chain.ChainPolicy.ExtraStore.AddRange(known.ToArray());
                if (!chain.Build(new X509Certificate2(certificate))) return false;
                var last = chain.ChainElements[chain.ChainElements.Count - 1].Certificate;
                return known.Exists(one => one.Thumbprint == last.Thumbprint);
            })) {
                try { stream.AuthenticateAsClient(host, null, SslProtocols.Tls12, false); }
                catch (AuthenticationException why) { throw new Exception("tls: who answers there shows no certificate of the cluster's authority for " + host + " (" + why.Message + ")"); }
                var octets = Encoding.UTF8.GetBytes(request);
                stream.Write(octets, 0, octets.Length);
                stream.Flush();
                using (var reader = new StreamReader(stream)) { return reader.ReadLine() ?? "nobody said anything"; }
            }
        }
    }
}
