// The source of managed.exe: mcs -r:System.Xml.dll -platform:anycpu32bitpreferred -out:managed.exe managed.cs
using System;
using System.Reflection;
using System.Runtime.InteropServices;

[assembly: AssemblyVersion("4.2.1.7")]
[assembly: System.Runtime.Versioning.TargetFramework(".NETFramework,Version=v4.7.2")]

class Program {
    [DllImport("saltgrass-tide.dll")]
    static extern int sg_tide_height(int hour);

    static void Main() {
        Console.WriteLine(new System.Xml.XmlDocument());
        Console.WriteLine(sg_tide_height(3));
    }
}
