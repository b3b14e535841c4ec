# Gather what Fundamen asks of programs, on a Windows machine that has no Python:
#
# Compare its digest with what "fundamen capture --script powershell" printed, then allow it this one run:
#     powershell "(Get-FileHash gather.ps1).Hash"
#     powershell -ExecutionPolicy Bypass -File gather.ps1 office.gathered C:\Tidebook\tidebook.exe
#     powershell -ExecutionPolicy Bypass -File gather.ps1 office.gathered -All
#
# Copy the file to a machine with Fundamen, and make a capture of it there:
#
#     fundamen capture office.capture --from office.gathered
#
# It runs none of the programs, changes nothing, and writes nothing but the file. It takes in: names and sizes of files in
# the folders of the programs, of Windows, of its assemblies and runtimes, and on PATH; the bytes of the programs and of
# all files there that are called as a library or assembly they name; keys of the registry that tell of search paths,
# runtimes, installed products and trusted certificates; and the variables PATH, DOTNET_*, JAVA_HOME and those of
# Windows' own folders. With -All, it takes in the bytes of every program and library below Program Files and in Windows'
# system folders, which are some GiB, and the keys that tell of services. docs/formats/gathered.md describes the form. Windows PowerShell 5.1 and later serve, of the
# width of the system, where scripts may compile code (no constrained language mode).
param(
    [Parameter(Mandatory = $true, Position = 0)][string] $Target,
    [Parameter(Position = 1, ValueFromRemainingArguments = $true)][string[]] $Programs,
    [switch] $All
)
$ErrorActionPreference = 'Stop'
Add-Type -IgnoreWarnings -TypeDefinition @'
using System;
using System.Collections.Generic;
using System.IO;
using System.IO.Compression;
using System.Runtime.InteropServices;
using System.Security.Cryptography;
using System.Text;
using System.Text.RegularExpressions;
using Microsoft.Win32;

public static class FundamenGather
{
    public static int Run(string target, string[] programs, bool all)
    {
        if (Environment.Is64BitOperatingSystem && !Environment.Is64BitProcess)
        {
            Console.Error.WriteLine("gather.ps1: this is a 32-bit PowerShell, which is shown other folders. Start the 64-bit one.");
            return 3;
        }
        List<string> found = new List<string>();
        foreach (string program in programs ?? new string[0])
        {
            if (File.Exists(program))
                found.Add(Path.GetFullPath(program));
            else
                Console.Error.WriteLine("gather.ps1: " + program + " is no file. Nothing was gathered of it.");
        }
        if (found.Count == 0 && !all)
        {
            Console.Error.WriteLine("gather.ps1: name a program that is there, or -All.");
            return 3;
        }
        string part = target + ".part";
        try
        {
            using (FileStream file = new FileStream(part, FileMode.Create, FileAccess.Write))
            using (GZipStream packed = new GZipStream(file, CompressionMode.Compress))
                new Gathering(packed, all).Gather(found);
            if (File.Exists(target))
                File.Delete(target);
            File.Move(part, target);
            return 0;
        }
        catch (Exception error)
        {
            Console.Error.WriteLine("gather.ps1: " + target + " was not written: " + error.Message);
        }
        finally
        {
            if (File.Exists(part))
                File.Delete(part);
        }
        return 3;
    }

    // Whether something merely cannot be read, or has a name that is none.
    private static bool IsRefusal(Exception error)
    {
        return error is IOException || error is UnauthorizedAccessException || error is System.Security.SecurityException
            || error is ArgumentException || error is NotSupportedException;
    }

    // One gathering: folders are listed, then files are read from one to the next, then all is written.
    private class Gathering
    {
        private const int MostBelow = 20000; // files and folders below one folder
        private const long MostBytes = 256L << 20; // of one file
        private const long MostOfAll = 16L << 30; // bytes of all files, which is what the reader takes
        private static readonly string Windows = Environment.GetEnvironmentVariable("SystemRoot") ?? "C:\\Windows";
        private static readonly Regex Identity = new Regex("<(?:\\w+:)?assemblyIdentity\\b[^>]*?\\bname\\s*=\\s*[\"']([^\"'<>]{1,200})[\"']", RegexOptions.IgnoreCase);
        private static readonly Regex Executable = new Regex("\\.(?:exe|dll|ocx|cpl|drv|node)$", RegexOptions.IgnoreCase);
        private static readonly Regex Library = new Regex("[\\w.+-]{1,120}\\.(?:dll|exe)\\b", RegexOptions.IgnoreCase);

        private readonly Stream output;
        private readonly bool all; // of the whole machine
        private long total; // bytes of files that were written
        private readonly Dictionary<string, string> listings = new Dictionary<string, string>(StringComparer.OrdinalIgnoreCase);
        private readonly Dictionary<string, List<string>> places = new Dictionary<string, List<string>>(StringComparer.OrdinalIgnoreCase);
        private readonly Dictionary<string, bool> named = new Dictionary<string, bool>(StringComparer.OrdinalIgnoreCase);
        private readonly Dictionary<string, bool> taken = new Dictionary<string, bool>(StringComparer.OrdinalIgnoreCase);
        private readonly List<string> waiting = new List<string>(); // files to be read, in turn
        private readonly Dictionary<string, bool> digests = new Dictionary<string, bool>(); // of images without a signature
        private ApiSets sets = new ApiSets(new byte[0]);

        public Gathering(Stream output, bool all)
        {
            this.output = output;
            this.all = all;
        }

        public void Gather(List<string> programs)
        {
            Line("fundamen-gathered 1");
            Line("platform windows");
            Line("host " + Environment.MachineName);
            Line("time " + DateTime.UtcNow.ToString("yyyy-MM-ddTHH:mm:ssZ", System.Globalization.CultureInfo.InvariantCulture));
            if (all)
                Line("all");
            foreach (string program in programs)
                Line("program " + program);
            foreach (System.Collections.DictionaryEntry variable in Environment.GetEnvironmentVariables())
            {
                if (Regex.IsMatch((string)variable.Key, "^(PATH|DOTNET_.*|JAVA_HOME|System(Root|Drive)|windir|Program(Files.*|Data|W6432)|CommonProgram.*|PROCESSOR_ARCH.*)$", RegexOptions.IgnoreCase))
                    Line("environment " + variable.Key + "=" + ((string)variable.Value).Replace("\r", "").Replace("\n", ""));
            }
            Say("Listing folders ...");
            ListAll(programs);
            string system = Path.Combine(Windows, "System32");
            Take(Path.Combine(system, "ntdll.dll"));
            Take(Path.Combine(Windows, "SysWOW64\\ntdll.dll"));
            Take(Path.Combine(Windows, "SysArm32\\ntdll.dll"));
            Take(Path.Combine(system, "apisetschema.dll"));
            foreach (string program in programs)
                Take(program);
            if (all)
                foreach (KeyValuePair<string, List<string>> place in places)
                    if (Executable.IsMatch(place.Key))
                        foreach (string path in place.Value.ToArray())
                            if (IsImage(path))
                                Take(path);
            for (int next = 0; next < waiting.Count; next++)
            {
                if (next % 20 == 0)
                    Say("Gathering file " + (next + 1) + " of " + waiting.Count + ", " + (total >> 20) + " MiB");
                Read(waiting[next]);
            }
            Say("Gathered " + waiting.Count + " files, " + (total >> 20) + " MiB.");
            if (!Console.IsErrorRedirected)
                Console.Error.WriteLine();
            Catalogues(Path.Combine(system, "CatRoot"));
            foreach (KeyValuePair<string, string> listing in listings)
            {
                Line("names " + listing.Key);
                Write(listing.Value);
                Line(".");
            }
            Trees();
            Line("end");
        }

        // How far it is, to a person at a terminal.
        private static void Say(string text)
        {
            if (!Console.IsErrorRedirected)
                Console.Error.Write("\r" + text.PadRight(70));
        }

        // Folders and what is in them.

        private void ListAll(List<string> programs)
        {
            foreach (string name in new string[] { "", "System32", "SysWOW64", "SysArm32", "System", "WinSxS\\Manifests" })
                ListOne(Path.Combine(Windows, name));
            foreach (string name in new string[] { "Microsoft.NET", "assembly\\GAC", "assembly\\GAC_MSIL", "assembly\\GAC_32", "assembly\\GAC_64" })
                ListBelow(Path.Combine(Windows, name));
            foreach (string variable in new string[] { "ProgramFiles", "ProgramFiles(x86)", "ProgramW6432" })
                if (Environment.GetEnvironmentVariable(variable) != null)
                    ListBelow(Path.Combine(Environment.GetEnvironmentVariable(variable), "dotnet"));
            foreach (string variable in new string[] { "DOTNET_ROOT", "DOTNET_ROOT_X64", "DOTNET_ROOT_X86", "DOTNET_ROOT(x86)", "DOTNET_ROOT_ARM64" })
                if (!String.IsNullOrEmpty(Environment.GetEnvironmentVariable(variable)))
                    ListBelow(Environment.GetEnvironmentVariable(variable));
            foreach (string program in programs)
                ListBelow(Path.GetDirectoryName(program));
            if (all)
                foreach (string folder in new string[] { "Program Files", "Program Files (x86)", "Windows\\System32", "Windows\\SysWOW64" })
                    ListBelow(Path.Combine(Path.GetPathRoot(Windows), folder), Int32.MaxValue);
            foreach (string folder in (Environment.GetEnvironmentVariable("PATH") ?? "").Split(';'))
                if (folder.Trim(' ', '"').IndexOf(":\\", StringComparison.Ordinal) == 1)
                    ListOne(folder.Trim(' ', '"'));
        }

        private void ListBelow(string folder)
        {
            ListBelow(folder, MostBelow);
        }

        private void ListBelow(string folder, int most)
        {
            List<string> folders = new List<string>();
            folders.Add(folder);
            int count = 0;
            for (int next = 0; next < folders.Count && count < most; next++)
                foreach (FileSystemInfo entry in ListOne(folders[next]))
                {
                    count++;
                    if ((entry.Attributes & FileAttributes.Directory) != 0 && (entry.Attributes & FileAttributes.ReparsePoint) == 0)
                        folders.Add(entry.FullName);
                }
        }

        private FileSystemInfo[] ListOne(string path)
        {
            FileSystemInfo[] entries = new FileSystemInfo[0];
            try
            {
                path = Path.GetFullPath(path);
                if (path.Length > 3)
                    path = path.TrimEnd('\\');
                string above = Path.GetDirectoryName(path);
                if (above != null && !listings.ContainsKey(above))
                    ListOne(above);
                if (!Directory.Exists(path))
                    return entries;
                entries = new DirectoryInfo(path).GetFileSystemInfos();
            }
            catch (Exception error)
            {
                if (!IsRefusal(error))
                    throw;
                if (path.IndexOf('\n') < 0)
                    Line("barred " + path);
                return entries;
            }
            if (listings.ContainsKey(path))
                return entries;
            StringBuilder lines = new StringBuilder();
            foreach (FileSystemInfo entry in entries)
            {
                FileInfo file = entry as FileInfo;
                string kind = file != null ? "f" : "d";
                string target = (entry.Attributes & FileAttributes.ReparsePoint) != 0 ? Links.FinalPath(entry.FullName) : null;
                if (target != null && !String.Equals(target, entry.FullName, StringComparison.OrdinalIgnoreCase))
                    lines.Append("l 0 " + entry.Name + " -> " + target + "\n");
                else
                    lines.Append(kind + " " + (file != null ? file.Length : 0) + " " + entry.Name + "\n");
                if (file != null)
                    Index(entry.Name, entry.FullName);
            }
            listings[path] = lines.ToString();
            return entries;
        }

        private void Index(string name, string path)
        {
            List<string> known;
            if (!places.TryGetValue(name, out known))
                places[name] = known = new List<string>();
            known.Add(path);
            if (named.ContainsKey(name))
                Take(path);
        }

        // Files, and what they name.

        private void Take(string path)
        {
            if (File.Exists(path) && !taken.ContainsKey(path))
            {
                taken[path] = true;
                waiting.Add(path);
            }
        }

        private void Name(string name)
        {
            List<string> known;
            if (name.Length == 0 || named.ContainsKey(name))
                return;
            named[name] = true;
            if (places.TryGetValue(name, out known))
                foreach (string path in known.ToArray())
                    Take(path);
        }

        private void Read(string path)
        {
            byte[] data = Bytes(path);
            if (data == null)
            {
                Line("refused " + path);
                return;
            }
            string text = Encoding.GetEncoding(28591).GetString(data); // one letter a byte
            // Libraries of cryptography have such words later.
            if (text.IndexOf("PRIVATE KEY-----", 0, Math.Min(text.Length, 4096), StringComparison.Ordinal) >= 0)
            {
                Line("secret " + path);
                return;
            }
            if (!Put(path, data))
                return;
            string stem = Path.Combine(Path.GetDirectoryName(path), Path.GetFileNameWithoutExtension(path));
            foreach (string beside in new string[] { path + ".manifest", path + ".config", stem + ".runtimeconfig.json", stem + ".deps.json" })
                Take(beside);
            if (String.Equals(Path.GetFileName(path), "apisetschema.dll", StringComparison.OrdinalIgnoreCase))
                sets = new ApiSets(data);
            if (data.Length > 1 && data[0] == 'M' && data[1] == 'Z')
                NamesOfImage(new Image(data), text);
            else
                foreach (Match match in Library.Matches(text))
                    Name(match.Value);
            if (path.EndsWith(".runtimeconfig.json", StringComparison.OrdinalIgnoreCase))
                foreach (string name in new string[] { "hostfxr.dll", "hostpolicy.dll", "coreclr.dll", "Microsoft.NETCore.App.deps.json", "Microsoft.WindowsDesktop.App.deps.json", "Microsoft.AspNetCore.App.deps.json" })
                    Name(name);
            if (text.IndexOf("assemblyIdentity", StringComparison.Ordinal) >= 0)
                foreach (Match match in Identity.Matches(text))
                    Assembly(match.Groups[1].Value);
        }

        // What is in a file; null where it cannot be read, or is too large.
        private static byte[] Bytes(string path)
        {
            try
            {
                return new FileInfo(path).Length > MostBytes ? null : File.ReadAllBytes(path);
            }
            catch (Exception error)
            {
                if (!IsRefusal(error))
                    throw;
                return null;
            }
        }

        // Whether an executable begins in a file.
        private static bool IsImage(string path)
        {
            try
            {
                using (FileStream file = new FileStream(path, FileMode.Open, FileAccess.Read, FileShare.ReadWrite | FileShare.Delete))
                    return file.ReadByte() == 'M' && file.ReadByte() == 'Z';
            }
            catch (Exception error)
            {
                if (!IsRefusal(error))
                    throw;
                return true; // it is told later why its bytes are not there
            }
        }

        // Write what is in a file, unless that would be too much of all together.
        private bool Put(string path, byte[] data)
        {
            total += data.Length;
            Line(total > MostOfAll ? "large " + path : "file " + data.Length + " " + path);
            if (total > MostOfAll)
                return false;
            output.Write(data, 0, data.Length);
            return true;
        }

        private void NamesOfImage(Image image, string text)
        {
            foreach (string digest in image.Digests())
                digests[digest] = true;
            foreach (string name in image.Needs())
            {
                Name(name.IndexOf('.') < 0 ? name + ".dll" : name);
                if (name.StartsWith("api-", StringComparison.OrdinalIgnoreCase) || name.StartsWith("ext-", StringComparison.OrdinalIgnoreCase))
                    foreach (string host in sets.HostsOf(name))
                        Name(host);
            }
            if (!image.IsManaged)
                return;
            Name("mscoree.dll");
            Name("clr.dll");
            Name("mscorwks.dll");
            foreach (string name in text.Split('\0')) // names of assemblies stand among those of everything else
                if (name.Length > 0 && name.Length < 200 && places.ContainsKey(name + ".dll"))
                    Name(name + ".dll");
        }

        private void Assembly(string name)
        {
            Name(name + ".dll");
            Name(name + ".manifest");
            string store = Path.Combine(Windows, "WinSxS");
            string listing;
            if (named.ContainsKey("assembly " + name) || !listings.TryGetValue(Path.Combine(store, "Manifests"), out listing))
                return;
            named["assembly " + name] = true;
            foreach (string line in listing.Split('\n'))
                if (line.IndexOf(name + "_", StringComparison.OrdinalIgnoreCase) >= 0)
                {
                    string file = line.Substring(line.IndexOf(' ', 2) + 1);
                    Take(Path.Combine(store, "Manifests", file));
                    ListBelow(Path.Combine(store, Path.GetFileNameWithoutExtension(file)));
                }
        }

        // The catalogues of signatures that list one of the files.
        private void Catalogues(string root)
        {
            List<string> catalogues = new List<string>();
            foreach (FileSystemInfo folder in ListOne(root))
                if ((folder.Attributes & FileAttributes.Directory) != 0)
                    foreach (FileSystemInfo entry in ListOne(folder.FullName))
                        if (entry.Name.EndsWith(".cat", StringComparison.OrdinalIgnoreCase))
                            catalogues.Add(entry.FullName);
            foreach (string path in catalogues)
            {
                byte[] data = Bytes(path);
                bool lists = false;
                for (int at = 0; data != null && !lists && at + 34 <= data.Length; at++) // an octet string of 20 or 32 bytes
                    if (data[at] == 4 && (data[at + 1] == 20 || data[at + 1] == 32))
                        lists = digests.ContainsKey(Convert.ToBase64String(data, at + 2, data[at + 1]));
                if (!lists)
                    continue;
                Put(path, data);
            }
        }

        // The registry.

        private void Trees()
        {
            foreach (string key in new string[] {
                "HKLM\\System\\CurrentControlSet\\Control\\Session Manager",
                "HKLM\\Software\\Microsoft\\Windows\\CurrentVersion\\App Paths",
                "HKLM\\Software\\Microsoft\\NET Framework Setup",
                "HKLM\\Software\\dotnet", "HKLM\\Software\\WOW6432Node\\dotnet",
                "HKLM\\Software\\Microsoft\\VisualStudio", "HKLM\\Software\\WOW6432Node\\Microsoft\\VisualStudio",
                "HKLM\\Software\\JavaSoft", "HKCU\\Environment",
                "HKLM\\Software\\Microsoft\\Windows\\CurrentVersion\\Uninstall",
                "HKLM\\Software\\WOW6432Node\\Microsoft\\Windows\\CurrentVersion\\Uninstall",
                "HKCU\\Software\\Microsoft\\Windows\\CurrentVersion\\Uninstall",
                "HKLM\\Software\\Microsoft\\SystemCertificates", "HKLM\\Software\\Policies\\Microsoft\\SystemCertificates",
                "HKLM\\Software\\Microsoft\\EnterpriseCertificates", "HKCU\\Software\\Microsoft\\SystemCertificates" })
            {
                Line("tree " + key);
                Key(key, true);
            }
            Key("HKLM\\Software\\Microsoft\\Windows NT\\CurrentVersion", false);
            foreach (string key in all ? new string[] { "HKLM\\System\\CurrentControlSet\\Services",
                "HKLM\\Software\\Microsoft\\Windows\\CurrentVersion\\Installer\\InProgress" } : new string[0])
            {
                Line("tree " + key);
                Key(key, true);
            }
        }

        private void Key(string path, bool below)
        {
            RegistryHive hive = path.StartsWith("HKLM", StringComparison.Ordinal) ? RegistryHive.LocalMachine : RegistryHive.CurrentUser;
            try
            {
                using (RegistryKey root = RegistryKey.OpenBaseKey(hive, RegistryView.Registry64))
                using (RegistryKey key = root.OpenSubKey(path.Substring(5)))
                {
                    if (key == null)
                        return;
                    Line("key " + path);
                    foreach (string name in key.GetValueNames())
                        Value(key, name);
                    if (below)
                        foreach (string name in key.GetSubKeyNames())
                            Key(path + "\\" + name, true);
                }
            }
            catch (Exception error)
            {
                if (!IsRefusal(error))
                    throw;
            } // it counts as one that is not there
        }

        private void Value(RegistryKey key, string name)
        {
            object value = key.GetValue(name, null, RegistryValueOptions.DoNotExpandEnvironmentNames);
            string kind = "text";
            string data;
            if (value is int || value is long)
            {
                kind = "number";
                data = value is int ? ((uint)(int)value).ToString() : ((ulong)(long)value).ToString();
            }
            else if (value is byte[])
            {
                kind = "bytes";
                data = Convert.ToBase64String((byte[])value);
            }
            else
            {
                string[] several = value as string[];
                if (several != null)
                    kind = "texts";
                data = several != null ? String.Join("\0", several) : (value as string ?? "");
                data = Convert.ToBase64String(new UTF8Encoding(false).GetBytes(data));
            }
            if (name.IndexOf('\n') < 0)
                Line("value " + kind + " " + (data.Length == 0 ? "-" : data) + " " + name);
        }

        private void Line(string text)
        {
            Write(text + "\n");
        }

        private void Write(string text)
        {
            byte[] data = new UTF8Encoding(false).GetBytes(text);
            output.Write(data, 0, data.Length);
        }
    }

    // What a portable executable names. Source: Microsoft's "PE Format".
    private class Image
    {
        public readonly bool IsManaged;
        private readonly byte[] data;
        private readonly List<uint[]> sections = new List<uint[]>(); // address, size, offset
        private readonly List<string> sectionNames = new List<string>();
        private readonly uint[,] directories = new uint[16, 2];
        private readonly ulong imageBase;
        private readonly long checksum, certificates; // where they stand in the header

        public Image(byte[] data)
        {
            this.data = data;
            long header = U32(0x3c);
            if (U32(header) != 0x4550)
                return;
            long optional = header + 24;
            bool isWide = U16(optional) == 0x20b;
            imageBase = isWide ? U32(optional + 24) | ((ulong)U32(optional + 28) << 32) : U32(optional + 28);
            long tables = optional + (isWide ? 112 : 96);
            uint count = Math.Min(U32(tables - 4), 16);
            for (int i = 0; i < count; i++)
            {
                directories[i, 0] = U32(tables + 8 * i);
                directories[i, 1] = U32(tables + 8 * i + 4);
            }
            long section = optional + U16(header + 20);
            for (int i = 0; i < Math.Min(U16(header + 6), 96u); i++, section += 40)
            {
                sections.Add(new uint[] { U32(section + 12), Math.Max(U32(section + 8), U32(section + 16)), U32(section + 20) });
                string name = section + 8 <= data.Length ? Encoding.ASCII.GetString(data, (int)section, 8) : "";
                sectionNames.Add(name.TrimEnd('\0'));
            }
            IsManaged = directories[14, 0] != 0;
            checksum = optional + 64;
            certificates = tables + 32;
        }

        // The libraries that it imports, at once or delayed, and those to which it forwards what it exports.
        public List<string> Needs()
        {
            List<string> names = new List<string>();
            for (long at = Offset(directories[1, 0]); at > 0 && U32(at + 12) != 0 && names.Count < 4096; at += 20)
                names.Add(Text(U32(at + 12)));
            for (long at = Offset(directories[13, 0]); at > 0 && U32(at + 4) != 0 && names.Count < 8192; at += 32)
                names.Add(Text((U32(at) & 1) != 0 ? U32(at + 4) : (uint)(U32(at + 4) - imageBase)));
            long exports = Offset(directories[0, 0]);
            long functions = exports > 0 ? Offset(U32(exports + 28)) : 0;
            for (uint i = 0; functions > 0 && i < Math.Min(U32(exports + 20), 65536u); i++)
            {
                uint address = U32(functions + 4 * i);
                if (address - directories[0, 0] >= directories[0, 1]) // not within the directory: no forwarder
                    continue;
                string forwarder = Text(address);
                if (forwarder.LastIndexOf('.') > 0)
                    names.Add(forwarder.Substring(0, forwarder.LastIndexOf('.')) + ".dll");
            }
            return names;
        }

        // By which a catalogue lists it, if it has no signature of its own. Source: "Windows Authenticode Portable
        // Executable Signature Format", the digest leaves out the checksum and the entry of the certificates.
        public List<string> Digests()
        {
            List<string> digests = new List<string>();
            if (directories[4, 1] != 0 || certificates == 0 || certificates + 8 > data.Length)
                return digests;
            foreach (HashAlgorithm hash in new HashAlgorithm[] { SHA1.Create(), SHA256.Create() })
                using (hash)
                {
                    hash.TransformBlock(data, 0, (int)checksum, data, 0);
                    hash.TransformBlock(data, (int)checksum + 4, (int)(certificates - checksum - 4), data, (int)checksum + 4);
                    hash.TransformFinalBlock(data, (int)certificates + 8, data.Length - (int)certificates - 8);
                    digests.Add(Convert.ToBase64String(hash.Hash));
                }
            return digests;
        }

        // Where a section begins; 0 where there is none of the name.
        public long Section(string name)
        {
            for (int i = 0; i < sections.Count; i++)
                if (sectionNames[i] == name)
                    return sections[i][2];
            return 0;
        }

        private long Offset(uint address)
        {
            if (address != 0)
                foreach (uint[] section in sections)
                    if (address - section[0] < section[1])
                        return (long)address - section[0] + section[2];
            return 0;
        }

        private string Text(uint address)
        {
            StringBuilder text = new StringBuilder();
            for (long at = Offset(address); at > 0 && at < data.Length && data[at] > 32 && data[at] < 127 && text.Length < 256; at++)
                text.Append((char)data[at]);
            return text.ToString();
        }

        private uint U16(long at)
        {
            return at >= 0 && at + 2 <= data.Length ? BitConverter.ToUInt16(data, (int)at) : 0u;
        }

        private uint U32(long at)
        {
            return at >= 0 && at + 4 <= data.Length ? BitConverter.ToUInt32(data, (int)at) : 0u;
        }
    }

    // The libraries behind an API set: those of its entry in a schema of version 6, or all that an older one names.
    // Source: the .apiset section of apisetschema.dll, as the public debugging symbols describe it.
    private class ApiSets
    {
        private readonly byte[] data;
        private readonly long start;

        public ApiSets(byte[] image)
        {
            data = image;
            start = new Image(image).Section(".apiset");
        }

        public List<string> HostsOf(string name)
        {
            List<string> hosts = new List<string>();
            if (start == 0)
                return hosts;
            if (U32(0) != 6)
            {
                string all = Encoding.Unicode.GetString(data, (int)start, (data.Length - (int)start) & ~1);
                foreach (Match match in Regex.Matches(all, "[A-Za-z0-9_.+-]{1,60}\\.(?:dll|drv)", RegexOptions.IgnoreCase))
                    hosts.Add(match.Value);
                return hosts;
            }
            int last = name.LastIndexOf('-'); // what follows does not count
            string wanted = last > 0 ? name.Substring(0, last) : name;
            for (uint i = 0; i < Math.Min(U32(12), 20000u); i++)
            {
                long entry = U32(16) + 24 * (long)i;
                if (!String.Equals(Text(U32(entry + 4), U32(entry + 12)), wanted, StringComparison.OrdinalIgnoreCase))
                    continue;
                for (uint j = 0; j < Math.Min(U32(entry + 20), 64u); j++)
                {
                    long host = U32(entry + 16) + 20 * (long)j;
                    hosts.Add(Text(U32(host + 12), U32(host + 16)));
                }
            }
            return hosts;
        }

        private uint U32(long at)
        {
            at += start;
            return at >= 0 && at + 4 <= data.Length ? BitConverter.ToUInt32(data, (int)at) : 0u;
        }

        private string Text(long at, long size)
        {
            at += start;
            return at + size <= data.Length && size < 1024 ? Encoding.Unicode.GetString(data, (int)at, (int)size) : "";
        }
    }

    // Where a link leads.
    private static class Links
    {
        [DllImport("kernel32.dll", CharSet = CharSet.Unicode, SetLastError = true)]
        private static extern IntPtr CreateFileW(string name, uint access, uint share, IntPtr security, uint how, uint flags, IntPtr template);

        [DllImport("kernel32.dll", CharSet = CharSet.Unicode, SetLastError = true)]
        private static extern uint GetFinalPathNameByHandleW(IntPtr file, StringBuilder path, uint size, uint flags);

        [DllImport("kernel32.dll", SetLastError = true)]
        private static extern bool CloseHandle(IntPtr handle);

        public static string FinalPath(string path)
        {
            IntPtr file = CreateFileW(path, 0, 7, IntPtr.Zero, 3, 0x02000000, IntPtr.Zero);
            if (file == new IntPtr(-1))
                return path;
            StringBuilder found = new StringBuilder(32768);
            uint size = GetFinalPathNameByHandleW(file, found, 32768, 0);
            CloseHandle(file);
            string final = size > 0 && size < 32768 ? found.ToString() : path;
            return final.StartsWith("\\\\?\\", StringComparison.Ordinal) && final.Length > 5 && final[5] == ':' ? final.Substring(4) : path;
        }
    }
}
'@
[Environment]::CurrentDirectory = (Get-Location -PSProvider FileSystem).ProviderPath # which is not that of this shell
exit [FundamenGather]::Run($Target, $Programs, $All.IsPresent)
